"""What expressions call a field: changed wherever it stands, while all that was written before stays right."""

from dataclasses import replace
from typing import Any, Final

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import field_of, rebuilt
from finesieve.services.define.fields import refuse_name
from finesieve.services.kernel.changes import record_change, register, snapshot
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.services.usage.renaming import call_everywhere
from finesieve.store.definitions.catalogue import touch
from finesieve.store.tables import FieldRow

__all__ = ["call_field"]

_MOST_NAMES: Final = 40


def call_field(scope: Scope, field_id: int, name: str) -> int:
    """Give a field another name in expressions, and write it wherever the one before stands; gives the id for undoing,
    0 where it is called so already.

    Its earlier names stay its own, so that links, files and what was noted elsewhere go on. Raises NotFound, and
    InvalidInput at `name` for one that cannot be used, or belongs to another.
    """
    with scope.transaction("editor") as unit:
        touch(unit.session, unit.workspace_id)  # whoever changes a definition at the same time waits here
        unit = reload(unit)  # noqa: PLW2901 - as it is now that nobody else changes it
        field, name = field_of(unit.catalogue, field_id), name.strip()
        if field.built_in:
            raise InvalidInput({"name": "A built-in field keeps its name."})
        refuse_name(unit.catalogue, field.about, name, "name", own=field_id)
        before = snapshot(unit, "field_name", field_id)
        _call(unit, field, name)
        return record_change(unit, "field_name", field_id, f"Called {field.label} {name} in formulas", before)


def _call(unit: Unit, field: Field, name: str) -> None:
    """Call a field so, everywhere."""
    row = unit.session.get(FieldRow, field.id)
    assert row is not None
    names = tuple(dict.fromkeys((name, *field.names)))[:_MOST_NAMES]
    called = () if names == (field.key,) else names
    settings = field.settings.model_copy(update={"called": called})
    row.settings = settings.to_json()
    unit.session.add(row)
    named = replace(field, settings=settings)
    fields = [named if one.id == field.id else one for one in unit.catalogue.all_fields]
    call_everywhere(unit, rebuilt(unit.catalogue, fields), named)


def _take(unit: Unit, field_id: int) -> Any:
    row = unit.session.get(FieldRow, field_id)
    return None if row is None else {"name": (row.settings.get("called") or [row.key])[0]}


def _restore(unit: Unit, field_id: int, before: Any) -> None:
    _call(unit, field_of(unit.catalogue, field_id), str(before["name"]))


register("field_name", _take, _restore)
