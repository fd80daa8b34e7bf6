"""The membership levels as a form needs them: their values for its rules, and what each brings for its page."""

from collections.abc import Mapping

from sqlmodel import select

from finesieve.core.fields.about import LEVEL
from finesieve.core.forms.definition import Form
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.values import Value
from finesieve.services.filling.open_form import LevelCard
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import row_of
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import LevelRow

__all__ = ["cards_of_levels", "reads_levels", "values_of_levels"]


def reads_levels(form: Form) -> bool:
    """Whether a form asks the level, or its rules read what a level brings."""
    asked = any(question.field_id == LEVEL_QUESTION for question in form.questions)
    return asked or any("level." in rule for _, _, rule in form.walk_rules())


def values_of_levels(unit: Unit) -> dict[str, Mapping[str, Value]]:
    """The values of each level, derived ones included, by its key."""
    keys = list(unit.catalogue.keys_of(LEVEL))
    found: dict[str, Mapping[str, Value]] = {}
    for level in unit.catalogue.levels:
        row = row_of(unit, LEVEL, level.id, stored_row(unit.session, unit.definitions, LEVEL, level.id) or {})
        found[level.key] = {key: row.get(key) for key in keys}
    return found


def cards_of_levels(unit: Unit, values: Mapping[str, Mapping[str, Value]]) -> dict[str, LevelCard]:
    """What each level brings, as people read it; nothing that is private to staff."""
    told = [
        one
        for one in unit.catalogue.fields_about(LEVEL)
        if (one.stores or one.derived) and (LEVEL, one.key) not in unit.catalogue.not_for_the_person
    ]
    words = dict(unit.session.exec(select(LevelRow.key, LevelRow.description)).all())
    lasts = {one.key: one.lasts for one in unit.catalogue.levels}
    return {
        key: LevelCard(
            words.get(key, ""),
            tuple((one.label, one.show(row[one.key])) for one in told if row.get(one.key) is not None),
            lasts.get(key),
        )
        for key, row in values.items()
    }
