"""Options: the choices of a choice field."""

from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any

from finesieve.core.values import plain_number, tidy_text

__all__ = [
    "MOST_OPTIONS",
    "Option",
    "option_from_json",
    "option_to_json",
    "options_from_lines",
    "options_to_lines",
    "read_decimal",
]

MOST_OPTIONS = 500
MOST_CHARACTERS = 200


@dataclass(frozen=True, slots=True)
class Option:
    """One choice: its label for people, its stored value for everything else.

    `score` counts in `score(…)`; `price` is added to an order that holds it, in
    the house's currency. A `retired` option is not offered any more, and stays
    with those who hold it.
    """

    label: str
    stored_value: str
    score: Decimal | None = None
    price: Decimal | None = None
    retired: bool = False


def option_to_json(option: Option) -> dict[str, Any]:
    """The option as it is stored and exported; what is not set is left out."""
    data: dict[str, Any] = {"label": option.label, "value": option.stored_value}
    if option.score is not None:
        data["score"] = plain_number(option.score)
    if option.price is not None:
        data["price"] = plain_number(option.price)
    if option.retired:
        data["retired"] = True
    return data


def option_from_json(data: Any) -> Option:
    """The option that `option_to_json` wrote. Raises ValueError, with a sentence, for anything else."""
    if not isinstance(data, dict) or not isinstance(data.get("label"), str) or not isinstance(data.get("value"), str):
        raise ValueError("An option has a label and a value.")
    if not data["label"] or not data["value"]:
        raise ValueError("The label and the value of an option are not empty.")
    return Option(
        _sized(tidy_text(data["label"])),
        _sized(tidy_text(data["value"])),
        read_decimal(data.get("score"), "score"),
        read_decimal(data.get("price"), "price"),
        data.get("retired") is True,
    )


def read_decimal(text: object, what: str) -> Decimal | None:
    """A number given as a text or whole number; blank for none. Raises ValueError."""
    if text is None or text == "":
        return None
    try:
        number = Decimal(str(text))
    except InvalidOperation:
        raise ValueError(f"The {what} “{text}” is no number; write it like 12 or 0.5.") from None
    if not number.is_finite() or abs(number) >= Decimal("1e15") or number != round(number, 10):
        raise ValueError(f"The {what} “{text}” has too many digits.")
    return number + 0


def options_from_lines(text: str, known: tuple[Option, ...] = ()) -> tuple[Option, ...]:
    """Options from pasted lines, `Label` or `Label = stored value` each.

    Columns pasted from a sheet, parted by tabs, are label, stored value, score
    and price. What else is known of an option with the same stored value stays. Raises
    ValueError, with a sentence, where two stored values are the same or none is
    left.
    """
    before = {option.stored_value: option for option in known}
    options: list[Option] = []
    seen: set[str] = set()
    for line in text.splitlines():
        label, stored, *more = _columns(line)
        if not label:
            continue
        stored = stored or next((o.stored_value for o in known if o.label == label), "") or label.lower()
        if stored in seen:
            raise ValueError(f"Two options have the stored value “{stored}”.")
        seen.add(stored)
        old = before.get(stored, Option(label, stored))
        score = read_decimal(more[0], "score") if more else old.score
        price = read_decimal(more[1], "price") if len(more) > 1 else old.price
        options.append(Option(_sized(label), _sized(stored), score, price, old.retired))
    if not options:
        raise ValueError("A choice needs at least one option, one a line.")
    if len(options) > MOST_OPTIONS:
        raise ValueError(f"A choice has at most {MOST_OPTIONS} options.")
    return tuple(options)


def _columns(line: str) -> list[str]:
    if "\t" in line:
        cells = [cell.strip() for cell in line.split("\t")]
        return cells if len(cells) > 1 else [*cells, ""]
    label, _, stored = (part.strip() for part in line.partition("="))
    return [label, stored]


def _sized(text: str) -> str:
    if len(text) > MOST_CHARACTERS:
        raise ValueError(f"An option has at most {MOST_CHARACTERS} characters.")
    return text


def options_to_lines(options: tuple[Option, ...]) -> str:
    """Options as lines that `options_from_lines` reads back."""
    return "\n".join(
        option.label if option.stored_value == option.label.lower() else f"{option.label} = {option.stored_value}"
        for option in options
    )
