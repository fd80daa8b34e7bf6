"""Options of choices: one by one, shared by several fields, and stored values renamed wherever they stand."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from pydantic import Field as Bounds
from sqlmodel import col, select

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import (
    MOST_OPTIONS,
    Option,
    option_from_json,
    option_to_json,
    options_from_lines,
    options_to_lines,
)
from finesieve.core.limits import NAME, OPTION
from finesieve.core.model.catalogue import field_of
from finesieve.services.define.fields import refuse_loss
from finesieve.services.kernel.changes import record_change, refuse_overtaken, register, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.merging import merged
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.renaming import rename_everywhere
from finesieve.services.usage.uses import Use, uses_of
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.rows import value_counts
from finesieve.store.tables import FieldRow, OptionListRow

__all__ = [
    "OptionInput",
    "OptionLine",
    "OptionListInput",
    "OptionListView",
    "change_option_list",
    "change_options",
    "create_option_list",
    "list_option_lists",
    "make_option_list",
    "paste_options",
    "read_option_list",
    "read_options",
    "remove_option_list",
    "share_options",
]


@dataclass(frozen=True, slots=True)
class OptionLine:
    """An option with how many hold it, and the expressions that name it."""

    option: Option
    held: int
    uses: tuple[Use, ...] = ()


class OptionInput(Input):
    """One option as typed; `was` is its stored value before, empty for a new one."""

    was: str = ""
    label: str = Bounds(min_length=1, max_length=OPTION)
    value: str = Bounds(default="", max_length=OPTION)
    score: str = Bounds(default="", max_length=30)
    price: str = Bounds(default="", max_length=30)
    retired: bool = False

    def read(self) -> Option:
        """The option. Raises ValueError with a sentence."""
        data = {"label": self.label, "value": self.value or self.label.lower(), "retired": self.retired}
        return option_from_json(data | {"score": self.score or None, "price": self.price or None})


def read_options(scope: Scope, field_id: int) -> tuple[OptionLine, ...]:
    """The options of a choice with how many hold each. Raises NotFound."""
    with scope.reading("reader") as unit:
        field = _choice(unit, field_id)
        held = dict(value_counts(unit.session, unit.definitions, field, limit=MOST_OPTIONS))
        uses = uses_of(unit)
        return tuple(
            OptionLine(option, held.get(option.stored_value, 0), uses.of_option(field.value_type, option.stored_value))
            for option in field.options
        )


def _choice(unit: Unit, field_id: int) -> Field:
    field = field_of(unit.catalogue, field_id)
    if field.derived or not field.type.has_options:
        raise NotFound("There are no options to change.")
    return field


def change_options(scope: Scope, field_id: int, rows: Sequence[OptionInput], seen: int | None = None) -> int:
    """Change, reorder, add, retire and remove options, row by row; gives the id for undoing.

    A stored value that is changed is rewritten with everybody who holds it, and
    in every rule, formula and segment that names it. Raises InvalidInput at
    `options` where one goes that is still held or named, or two are the same, and
    Overtaken where somebody else has changed them since the change that was `seen`:
    a list is one thing, and is not put together out of two.
    """
    with scope.transaction("editor") as unit:
        unit.session.get(FieldRow, field_id, with_for_update=True)
        field = _choice(unit, field_id)
        refuse_overtaken(unit, "options", field_id, seen)
        try:
            options = tuple(row.read() for row in rows)
        except ValueError as problem:
            raise InvalidInput({"options": str(problem)}) from None
        if len({option.stored_value for option in options}) < len(options):
            raise InvalidInput({"options": "Two options have the same stored value."})
        if not options or len(options) > MOST_OPTIONS:
            raise InvalidInput({"options": f"A choice has at least one option and at most {MOST_OPTIONS}."})
        renamed = {row.was: option.stored_value for row, option in zip(rows, options, strict=True) if row.was}
        renamed = {old: new for old, new in renamed.items() if old != new and old in field.value_type.options}
        kept = tuple(replace(option, stored_value=_before(renamed, option.stored_value)) for option in options)
        refuse_loss(unit, field, kept)
        before = snapshot(unit, "options", field_id)
        _write(unit, field, options, renamed)
        return record_change(unit, "options", field_id, f"Changed the options of {field.label}", before)


def _before(renamed: dict[str, str], value: str) -> str:
    return next((old for old, new in renamed.items() if new == value), value)


def paste_options(scope: Scope, field_id: int, text: str) -> int:
    """Put pasted lines in the place of the options; gives the id for undoing. See `options_from_lines`."""
    with scope.transaction("editor") as unit:
        field = _choice(unit, field_id)
        try:
            options = options_from_lines(text, field.options)
        except ValueError as problem:
            raise InvalidInput({"options": str(problem)}) from None
        refuse_loss(unit, field, options)
        before = snapshot(unit, "options", field_id)
        _write(unit, field, options, {})
        return record_change(unit, "options", field_id, f"Pasted the options of {field.label}", before)


# Writing options


def _sharing(unit: Unit, field: Field) -> list[Field]:
    """The fields that have these options: the field itself, or all that share its list."""
    list_id = field.settings.option_list
    if not list_id:
        return [field]
    return [other for other in unit.catalogue.all_fields if other.settings.option_list == list_id]


def _write(unit: Unit, field: Field, options: Sequence[Option], renamed: dict[str, str]) -> None:
    data = [option_to_json(option) for option in options]
    if field.settings.option_list:
        shared = unit.session.get(OptionListRow, field.settings.option_list)
        assert shared is not None
        shared.options = data
        unit.session.add(shared)
    for other in _sharing(unit, field):
        row = unit.session.get(FieldRow, other.id)
        assert row is not None
        if not field.settings.option_list:
            row.options = data
        if renamed:
            rename_everywhere(unit, other, renamed)
            names = {old: renamed.get(new, new) for old, new in other.settings.renamed.items()} | renamed
            names = {old: new for old, new in names.items() if old != new}
            default = renamed.get(other.settings.default, other.settings.default)
            row.settings = other.settings.model_copy(update={"renamed": names, "default": default}).to_json()
        unit.session.add(row)


def _take(unit: Unit, field_id: int) -> Any:
    field = unit.session.get(FieldRow, field_id)
    if field is None:
        return None
    list_id = field.settings.get("option_list")
    shared = unit.session.get(OptionListRow, list_id) if list_id else None
    return {"options": shared.options if shared else field.options, "renamed": field.settings.get("renamed", {})}


def _restore(unit: Unit, field_id: int, before: Any) -> None:
    """The options as they were, and every renamed value under the name it had."""
    field = field_of(unit.catalogue, field_id)
    options = tuple(option_from_json(option) for option in before["options"])
    now, then = field.settings.renamed, before["renamed"]
    wanted = {option.stored_value for option in options}
    known = {option.stored_value for option in field.options}
    back = {new: old for old, new in now.items() if old not in then and old in wanted and new in known}
    forward = {old: new for old, new in then.items() if old not in now and new in wanted and old in known}
    _write(unit, field, options, back | forward)
    row = unit.session.get(FieldRow, field_id)
    assert row is not None
    row.settings = field.settings.model_copy(update={"renamed": then}).to_json()
    unit.session.add(row)


register("options", _take, _restore)


# Lists of options that several fields share


@dataclass(frozen=True, slots=True)
class OptionListView:
    """A shared list of options and the fields that use it."""

    id: int
    name: str
    options: tuple[Option, ...]
    fields: tuple[Field, ...]


class OptionListInput(Input):
    """A shared list as typed, one option a line."""

    name: str = Bounds(min_length=1, max_length=NAME)
    options: str = Bounds(default="", max_length=100_000)


def list_option_lists(scope: Scope) -> tuple[OptionListView, ...]:
    """All shared lists, by name."""
    with scope.reading("reader") as unit:
        rows = unit.session.exec(select(OptionListRow).order_by(col(OptionListRow.name))).all()
        return tuple(_view(unit, row) for row in rows)


def _view(unit: Unit, row: OptionListRow) -> OptionListView:
    users = tuple(field for field in unit.catalogue.all_fields if field.settings.option_list == row.id)
    return OptionListView(row.id or 0, row.name, tuple(option_from_json(option) for option in row.options), users)


def read_option_list(scope: Scope, list_id: int) -> OptionListView:
    """A shared list. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = unit.session.get(OptionListRow, list_id)
        if row is None:
            raise NotFound("There is no such list of options.")
        return _view(unit, row)


def create_option_list(scope: Scope, asked: OptionListInput) -> int:
    """Make a shared list; gives its id. Raises InvalidInput."""
    with scope.transaction("editor") as unit:
        return make_option_list(unit, asked.name, _read(asked.options))


def _read(text: str, known: tuple[Option, ...] = ()) -> tuple[Option, ...]:
    try:
        return options_from_lines(text, known)
    except ValueError as problem:
        raise InvalidInput({"options": str(problem)}) from None


def make_option_list(unit: Unit, name: str, options: Sequence[Option]) -> int:
    """Make a shared list in this transaction; see `create_option_list`."""
    if unit.session.exec(select(OptionListRow).where(col(OptionListRow.name) == name)).first():
        raise InvalidInput({"name": "There is a list of this name already."})
    row = OptionListRow(
        workspace_id=unit.workspace_id, name=name, options=[option_to_json(option) for option in options]
    )
    unit.session.add(row)
    unit.session.flush()
    touch(unit.session, unit.workspace_id)
    return row.id or 0


def change_option_list(scope: Scope, list_id: int, asked: OptionListInput, was: OptionListInput | None = None) -> int:
    """Rename a shared list or change its options; gives the id for undoing. Raises InvalidInput, Overtaken."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(OptionListRow, list_id, with_for_update=True)
        if row is None:
            raise NotFound("There is no such list of options.")
        view = _view(unit, row)
        now = OptionListInput(name=row.name, options=options_to_lines(view.options))
        asked = merged(unit, "option_list", list_id, asked, was, now)
        options = _read(asked.options, view.options)
        for field in view.fields:
            refuse_loss(unit, field, options)
        before = snapshot(unit, "option_list", list_id)
        row.name, row.options = asked.name, [option_to_json(option) for option in options]
        unit.session.add(row)
        return record_change(unit, "option_list", list_id, f"Changed the options {asked.name}", before)


def remove_option_list(scope: Scope, list_id: int) -> int:
    """Remove a shared list that no field uses; gives the id for undoing. Raises Conflict."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(OptionListRow, list_id)
        if row is None:
            raise NotFound("There is no such list of options.")
        users = _view(unit, row).fields
        if users:
            raise Conflict(f"{users[0].label} uses it; give that field options of its own first.")
        before = snapshot(unit, "option_list", list_id)
        unit.session.delete(row)
        return record_change(unit, "option_list", list_id, f"Removed the options {row.name}", before)


def share_options(scope: Scope, field_id: int, name: str) -> int:
    """Make the options of a field a shared list that it uses from now on; gives the list's id."""
    with scope.transaction("editor") as unit:
        field = _choice(unit, field_id)
        list_id = make_option_list(unit, name.strip() or field.label, field.options)
        row = unit.session.get(FieldRow, field_id)
        assert row is not None
        row.settings = field.settings.model_copy(update={"option_list": list_id}).to_json()
        row.options = []
        unit.session.add(row)
        return list_id
