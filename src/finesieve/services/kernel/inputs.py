"""From what was typed to a checked model, with plain words for what is wrong."""

from collections.abc import Mapping
from typing import Any, Final, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError, field_validator

from finesieve.core.errors import InvalidInput
from finesieve.core.values import tidy_text

__all__ = ["Input", "explain_errors", "read_input", "read_shown"]

_Model = TypeVar("_Model", bound=BaseModel)


class Input(BaseModel):
    """What somebody typed: texts are tidied before anything else looks at them."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    @field_validator("*", mode="before")
    @classmethod
    def _tidy(cls, value: object) -> object:
        if isinstance(value, str):
            try:
                return tidy_text(value)
            except ValueError:
                raise ValueError("This holds a character that cannot be kept; type it anew.") from None
        return value


_PLAIN: Final = {
    "missing": "Please fill this in.",
    "string_too_short": "Please fill this in.",
    "int_parsing": "Write a whole number.",
    "decimal_parsing": "Write a number, such as 12 or 0.5.",
    "bool_parsing": "Choose yes or no.",
}


def read_input(model: type[_Model], data: Mapping[str, Any]) -> _Model:
    """Check what was typed. Raises InvalidInput with a sentence for each input that will not do."""
    try:
        return model.model_validate(dict(data))
    except ValidationError as error:
        raise InvalidInput(explain_errors(error)) from None


def read_shown(model: type[_Model], shown: Mapping[str, Any]) -> _Model | None:
    """What a page had shown, as the model that it is read as; None where it says nothing, or nothing sound."""
    try:
        return model.model_validate(dict(shown)) if shown else None
    except ValidationError:
        return None


def explain_errors(error: ValidationError) -> dict[str, str]:
    """One plain sentence for each input, by name; "" is the whole."""
    messages: dict[str, str] = {}
    for problem in error.errors():
        name = str(problem["loc"][-1]) if problem["loc"] else ""
        context = problem.get("ctx", {})
        if problem["type"] == "value_error":
            message = str(context.get("error", problem["msg"]))
        elif problem["type"] == "string_too_long":
            message = f"This is too long; at most {context['max_length']} characters."
        else:
            message = _PLAIN.get(problem["type"], "This cannot be taken as it is.")
        messages.setdefault(name, message)
    return messages
