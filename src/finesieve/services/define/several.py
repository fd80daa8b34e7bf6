"""Several fields at once from pasted lines: looked at first, made together, taken back together."""

import difflib
import re
from dataclasses import dataclass
from typing import Final

from pydantic import ValidationError

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.built_in import BuiltIn, Part, twin_of
from finesieve.core.fields.types import LAYOUT, TYPES
from finesieve.core.model.catalogue import Group
from finesieve.services.define.fields import FieldInput, group_of, make_field, patiently
from finesieve.services.define.together import made_together
from finesieve.services.kernel.inputs import explain_errors
from finesieve.services.kernel.scope import Scope, Unit, reload

__all__ = ["PastedField", "make_several", "read_pasted"]

MOST: Final = 60
_SAID: Final = {
    "text": "short_text", "string": "short_text", "paragraph": "long_text", "mail": "email", "telephone": "phone",
    "mobile": "phone", "link": "url", "website": "url", "password": "secret", "integer": "number",
    "whole number": "number",
    "amount": "money", "price": "money", "currency": "money", "boolean": "yes_no", "checkbox": "yes_no",
    "yes/no": "yes_no",
    "consent": "agreement", "dropdown": "choice", "select": "choice", "menu": "choice", "radio": "choice",
    "multiple choice": "choices", "tick boxes": "choices", "checkboxes": "choices", "stage": "progress",
    "status": "progress",
    "birthday": "day_of_year", "datetime": "datetime", "attachment": "file", "image": "picture",
    "photo": "picture", "state": "region", "county": "region", "list": "text_list", "json": "structured",
}  # fmt: skip
"""What people call the types, beside their own names."""


@dataclass(frozen=True, slots=True)
class PastedField:
    """A line as it was understood. `problem` keeps it from being made; `twin` is a built-in field that it repeats."""

    line: str
    label: str
    type_key: str
    options: tuple[str, ...] = ()
    unit: str = ""
    problem: str = ""
    twin: tuple[BuiltIn, Part] | None = None

    @property
    def type_label(self) -> str:
        return TYPES[self.type_key].label

    def asked(self) -> FieldInput:
        """The field as a page would have it typed."""
        return FieldInput(label=self.label, type_key=self.type_key, options="\n".join(self.options), unit=self.unit)


def read_pasted(scope: Scope, group_id: int, text: str) -> tuple[PastedField, ...]:
    """What pasted lines would make in a group: label, type and options, parted by tabs, or by | signs.

    Options are parted by ; or commas; in brackets after a number stands its unit. Raises NotFound for no such group,
    InvalidInput for too many lines.
    """
    with scope.reading("editor") as unit:
        return _understood(unit, group_of(unit.catalogue, group_id), text)


def _understood(unit: Unit, group: Group, text: str) -> tuple[PastedField, ...]:
    lines = [line.strip() for line in text.splitlines() if line.strip(" \t|")]
    if len(lines) > MOST:
        raise InvalidInput({"lines": f"At most {MOST} lines at once; there are {len(lines)}."})
    known = {field.label.casefold() for field in unit.catalogue.fields_about(group.about)}
    found = []
    for line in lines:
        one = _line(line, group)
        label = one.label.casefold()
        if not one.problem and label in known:
            one = PastedField(line, one.label, one.type_key, problem="There is a field of this name already.")
        known.add(label)
        found.append(one)
    return tuple(found)


def _line(line: str, group: Group) -> PastedField:
    cells = [cell.strip() for cell in re.split(r"\t|\s*\|\s*", line)]
    label, said, rest = (*cells, "", "", "")[:3]
    type_key, unit = _type(said, rest)
    if not label:
        return PastedField(line, "", "short_text", problem="The label is missing.")
    if not type_key:
        near = difflib.get_close_matches(said.lower(), [one.label.lower() for one in TYPES.values()], 1)
        hint = f" Nearest: {near[0]}." if near else ""
        return PastedField(line, label, "short_text", problem=f"“{said}” is no type.{hint}")
    options = tuple(part.strip() for part in re.split(r"[;,]", rest) if part.strip()) if rest else ()
    made = PastedField(line, label, type_key, options if TYPES[type_key].has_options else (), unit)
    twin = twin_of(label) if group.about == "person" else None
    try:
        made.asked().read_options()
    except (InvalidInput, ValidationError) as problem:
        words = problem.messages if isinstance(problem, InvalidInput) else explain_errors(problem)
        return PastedField(line, label, type_key, options, unit, next(iter(words.values())))
    return PastedField(line, label, type_key, made.options, unit, "", twin)


def _type(said: str, options: str) -> tuple[str, str]:
    """The type by what it is called, with a unit in brackets; without one, a choice where there are options."""
    found = re.fullmatch(r"(.*?)\s*(?:\(([^)]*)\))?", said)
    name, unit = (found[1].lower(), found[2] or "") if found else (said.lower(), "")
    if not name:
        return ("choice" if options else "short_text"), unit
    by_label = {one.label.lower(): one.key for one in TYPES.values()}
    key = name.replace(" ", "_").replace("-", "_")
    type_key = by_label.get(name) or _SAID.get(name) or (key if key in TYPES else "")
    return ("" if type_key in LAYOUT or type_key == "record" else type_key), unit[:20]


def make_several(scope: Scope, group_id: int, text: str) -> tuple[int, int]:
    """Make all fields of pasted lines that have no problem; gives how many, and the one id for undoing.

    Raises InvalidInput where nothing is left to make.
    """
    return patiently(lambda: _make_several(scope, group_id, text))


def _make_several(scope: Scope, group_id: int, text: str) -> tuple[int, int]:
    with scope.transaction("editor") as unit:
        group = group_of(unit.catalogue, group_id)
        lines = [one for one in _understood(unit, group, text) if not one.problem]
        if not lines:
            raise InvalidInput({"lines": "There is no line of which a field can be made."})
        made, here = [], unit
        for one in lines:
            asked = one.asked()
            made.append(make_field(here, group, asked, asked.read_options()))
            # The next one must know of its key.
            here = reload(here)
        names = f"{len(made)} fields in {group.name}" if len(made) > 1 else f"{lines[0].label} in {group.name}"
        return len(made), made_together(here, made, f"Made {names}")
