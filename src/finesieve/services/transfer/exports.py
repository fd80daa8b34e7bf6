"""Values as files."""

from finesieve.core.errors import NotAllowed
from finesieve.core.fields.about import HOUSE, LEVEL, PERSON
from finesieve.core.model.catalogue import field_of
from finesieve.services.kernel.scope import Scope
from finesieve.services.kernel.sheets import csv_lines
from finesieve.store.reading.rows import rows_by_ids, titles_of
from finesieve.store.values.reshape import column_values

__all__ = ["values_as_csv"]


def values_as_csv(scope: Scope, field_id: int) -> tuple[str, str]:
    """The name and the text of a file with every value of a field: id, who it is, the value. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        field = field_of(unit.catalogue, field_id)
        if not unit.sees(field):
            raise NotAllowed("Only editors and owners see these values.")
        rows = [["id", "email" if field.about == PERSON else "name", field.key]]
        levels = {level.id: level.name for level in unit.catalogue.levels} if field.about == LEVEL else {}
        after_id = 0
        while field.stores and (batch := column_values(unit.session, unit.definitions, field, after_id, 1_000)):
            after_id = batch[-1][0]
            ids = [row_id for row_id, _ in batch]
            people = (
                rows_by_ids(unit.session, unit.definitions, PERSON, ["email"], ids) if field.about == PERSON else {}
            )
            titles = titles_of(unit.session, unit.definitions, field.about, ids, sees=unit.sees)
            for row_id, value in batch:
                email = str(people.get(row_id, {}).get("email") or "")
                who = email or titles.get(str(row_id)) or levels.get(row_id, "")
                shown = "set" if field.type.kind == "secret" else field.plain(value) or field.show(value)
                name = "the house" if field.about == HOUSE else who
                rows.append([str(row_id), name, shown])
        return f"{field.key}.csv", "".join(csv_lines(rows))
