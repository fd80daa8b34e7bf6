"""Putting a value of the past back: the undo of every value."""

from finesieve.core.errors import Conflict, InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.about import HOUSE, LEVEL, PERSON, record_type_of
from finesieve.services.kernel.scope import Scope
from finesieve.services.people.records import set_record_values
from finesieve.services.values.house import write_due
from finesieve.services.values.value_lines import may_change
from finesieve.services.values.writing import change_row, taken_keys
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import History

__all__ = ["put_back"]


def put_back(scope: Scope, line_id: int) -> int:
    """Put back the value that there was before a line of the history; gives how many values changed (0 or 1).

    Raises NotFound; NotAllowed where the role is too small; Conflict where that value cannot be kept any more.
    """
    with scope.transaction("clerk") as unit:
        line = unit.session.get(History, line_id)
        field = unit.catalogue.by_id.get(line.field_id) if line else None
        if line is None or field is None or not field.stores or field.type.kind == "secret" or not unit.sees(field):
            raise NotFound("There is no such value to put back.")
        if line.about == HOUSE:
            write_due(unit)
        if line.about in (HOUSE, LEVEL) and not scope.may("editor"):
            raise NotAllowed("Only editors and owners may change this.")
        try:
            value = field.from_kept(line.old)
            may_change(
                unit.catalogue, field, value, stored_row(unit.session, unit.definitions, line.about, line.entity_id)
            )
        except (ValueError, TypeError) as problem:
            raise Conflict(f"The value before cannot be put back: {problem}") from None
        if line.about == PERSON and taken_keys(unit, line.entity_id, {field.key: value}):
            raise InvalidInput({field.key: f"Somebody else has this {field.label.lower()} now."})
        values = {field.key: value}
        known = unit.catalogue.record_types_by_id.get(record_type_of(line.about))
        if known is not None:
            return set_record_values(unit, known, line.entity_id, values, "put back by staff")
        return len(change_row(unit, line.about, line.entity_id, values, "put back by staff"))
