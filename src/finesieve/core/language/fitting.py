"""Bringing parts to one type: literals take the type they meet, numbers become money, datetimes their date."""

from dataclasses import replace
from datetime import tzinfo
from decimal import Decimal
from typing import Final

from finesieve.core.language import tree
from finesieve.core.language.declare import ORDERED
from finesieve.core.language.functions import nearest
from finesieve.core.language.literals import WRITTEN, read_literal
from finesieve.core.language.printer import print_text_literal
from finesieve.core.language.problems import Problem, Span
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Type, Value

__all__ = ["KIND_WORDS", "NUMERIC", "Fitter", "say_kind"]

NUMERIC: Final[frozenset[Kind]] = frozenset(("number", "money"))
_NUMBER: Final = Type("number")
_MONEY: Final = Type("money")
_DATE: Final = Type("date")

KIND_WORDS: Final[dict[Kind, str]] = {
    "text": "a text",
    "number": "a number",
    "money": "an amount of money",
    "yes_no": "a yes/no",
    "choice": "a choice",
    "choices": "a multiple choice",
    "date": "a date",
    "time": "a time",
    "datetime": "a date and time",
    "day_of_year": "a day of the year",
    "text_list": "a list of texts",
    "structured": "structured data",
    "file": "a file",
    "secret": "a secret",
    "collection": "a collection",
}


def say_kind(kind: Kind) -> str:
    """The kind in words, with its article: `a number`."""
    return KIND_WORDS[kind]


class Fitter:
    """Collects problems while it brings parts to one type."""

    def __init__(self, zone: tzinfo) -> None:
        self._zone = zone
        self.problems: list[Problem] = []

    def say(self, code: str, span: Span, message: str, hint: str = "") -> None:
        """Add a problem."""
        self.problems.append(Problem(code, span, message, hint))

    def made(self, operation: str, type_: Type, node: tree.Node, parts: list[Typed | None]) -> Typed | None:
        """The operation over these parts; None where one of them has a problem."""
        known = tuple(part for part in parts if part is not None)
        return Typed(operation, type_, node.span, known) if len(known) == len(parts) else None

    def common(self, parts: list[Typed], span: Span, branches: bool) -> Type | None:
        """The one type that all parts can have, or None, already said; `branches` decides the words."""
        firm = [part for part in parts if part.name != "literal"] or parts
        kinds = {part.type.kind for part in firm}
        first = firm[0].type
        if kinds <= NUMERIC:
            return _MONEY if "money" in kinds else _NUMBER
        if kinds == {"date", "datetime"}:
            return _DATE
        if kinds == {"choice"}:
            return self._common_choice(firm, span, branches)
        if len(kinds) == 1:
            return first
        other = next(part for part in firm if part.type.kind != first.kind)
        code, verb = ("branch-types", "stand beside") if branches else ("wrong-type", "be compared with")
        choice = next((part for part in firm if part.type.kind == "choice"), None)
        hint = self.as_text(choice) if choice is not None and "text" in kinds else ""
        remedy = f" Write {hint}." if hint else ""
        message = f"{say_kind(first.kind).capitalize()} cannot {verb} {say_kind(other.type.kind)}.{remedy}"
        self.say(code, other.span if branches else span, message, hint)
        return None

    def as_text(self, part: Typed) -> str:
        """What gives a text out of a part that is none, such as `label(zone)`; "" where nothing does."""
        name = part.name if part.operation == "name" else "…"
        ways = {"choice": f"label({name})", "choices": f'join({name}, ", ")', "text_list": f'join({name}, ", ")'}
        shown = f"text({name})" if part.type.kind in ORDERED or part.type.kind == "yes_no" else ""
        return ways.get(part.type.kind, shown)

    def written_as(self, part: Typed, kinds: frozenset[Kind]) -> Kind | None:
        """The kind that a text literal stands for where one of these is asked for; None for what is no such literal."""
        possible = [kind for kind in WRITTEN if kind in kinds]
        if part.name != "literal" or not possible:
            return None
        text = part.value if isinstance(part.value, str) else ""
        return next((kind for kind in possible if len(text) == len(WRITTEN[kind])), possible[0])

    def _common_choice(self, parts: list[Typed], span: Span, branches: bool) -> Type | None:
        first = parts[0].type
        for part in parts[1:]:
            if branches and part.type.source != first.source:
                self.say("branch-types", part.span, f"{part.type.source} and {first.source} are different choices.")
                return None
            if part.type.options and first.options and not set(part.type.options) & set(first.options):
                message = f"{first.source} and {part.type.source} have no option in common."
                self.say("wrong-type", span, message)
                return None
        return first

    def fitted(self, part: Typed, wanted: Type, branch: bool = False) -> Typed | None:
        """The part as this type; literals take it, numbers become money, datetimes their date."""
        code = "branch-types" if branch else "wrong-type"
        kind = part.type.kind
        if part.name == "literal" and kind == "text" and wanted.kind != "text":
            return self._literal(part, wanted, code)
        if kind == "number" and wanted.kind == "money":
            return replace(part, type=_MONEY)
        if kind == "datetime" and wanted.kind == "date":
            return Typed("to_date", _DATE, part.span, (part,))
        if kind == wanted.kind:
            return part
        self.say(code, part.span, f"This is {say_kind(kind)}; here {say_kind(wanted.kind)} is needed.")
        return None

    def _literal(self, part: Typed, wanted: Type, code: str) -> Typed | None:
        text = part.value if isinstance(part.value, str) else ""
        if wanted.kind == "choice":
            return self._option(part, text, wanted)
        if wanted.kind not in WRITTEN:
            hint = text if _looks_numeric(text) and wanted.kind in NUMERIC else ""
            self.say(code, part.span, f"This is a text; here {say_kind(wanted.kind)} is needed.", hint)
            return None
        try:
            value: Value = read_literal(text, wanted.kind, self._zone)
        except ValueError:
            message = f"“{text}” is not {say_kind(wanted.kind)}; write it as {WRITTEN[wanted.kind]}."
            self.say("bad-literal", part.span, message, WRITTEN[wanted.kind])
            return None
        return Typed("const", wanted, part.span, value=value)

    def _option(self, part: Typed, text: str, wanted: Type) -> Typed | None:
        if text in wanted.options or not wanted.options:
            return Typed("const", wanted, part.span, value=text or None)
        near = nearest(text, wanted.options) or next(
            (option for option in wanted.options if option.lower() == text.lower()), ""
        )
        message = f"{wanted.source or 'The choice'} has no option “{text}”." + (f" Nearest: {near}." if near else "")
        self.say("unknown-option", part.span, message, print_text_literal(near) if near else "")
        return None


def _looks_numeric(text: str) -> bool:
    try:
        return Decimal(text).is_finite()
    except ArithmeticError:
        return False
