"""Yes or no, agreements, choices."""

from collections.abc import Sequence

from finesieve.core.fields.asked import Asked
from finesieve.core.fields.families.spellings import is_no, is_yes
from finesieve.core.phrases import phrase
from finesieve.core.values import Value

__all__ = [
    "read_agreement",
    "read_choice",
    "read_choices",
    "read_record",
    "read_yes_no",
    "show_agreement",
    "show_record",
    "show_yes_no",
    "write_yes_no",
]


def read_yes_no(text: str, _asked: Asked) -> Value:
    """Yes or no."""
    if is_yes(text):
        return True
    if is_no(text):
        return False
    raise ValueError("Choose yes or no.")


def show_yes_no(value: Value, _asked: Asked) -> str:
    return "yes" if value else "no"


def write_yes_no(value: Value, _asked: Asked) -> str:
    return "" if value is None else "yes" if value else "no"


def read_agreement(text: str, asked: Asked) -> Value:
    """Agreed, or blank: there is no agreeing to the contrary."""
    return True if read_yes_no(text, asked) else None


def show_agreement(value: Value, _asked: Asked) -> str:
    return "agreed" if value else ""


def _offered(asked: Asked) -> Sequence[str]:
    return [option.stored_value for option in asked.options]


def read_choice(text: str, asked: Asked) -> Value:
    """One stored value of the options. A retired one is taken too: who holds it may keep it."""
    if text not in _offered(asked):
        raise ValueError("Choose one of the options offered.")
    return text


def read_choices(text: str, asked: Asked) -> Value:
    """Stored values, one a line; kept in the order of the options."""
    chosen = {line.strip() for line in text.splitlines() if line.strip()}
    offered = _offered(asked)
    if chosen - set(offered):
        raise ValueError("Choose among the options offered.")
    if asked.settings.most and len(chosen) > asked.settings.most:
        raise ValueError(phrase("Choose at most {high}.", high=str(asked.settings.most)))
    if asked.settings.fewest and chosen and len(chosen) < asked.settings.fewest:
        raise ValueError(phrase("Choose at least {low}.", low=str(asked.settings.fewest)))
    return tuple(option for option in offered if option in chosen) or None


def read_record(text: str, asked: Asked) -> Value:
    """A record by its id; it must be one of those that there are."""
    if text not in asked.manner.titles.by_id:
        raise ValueError("Choose one of those offered.")
    return text


def show_record(value: Value, asked: Asked) -> str:
    return asked.manner.titles.by_id.get(str(value), f"no. {value}")
