"""House values that a form's answers would set: they wait where the staff have to say yes first."""

from decimal import Decimal
from typing import Final

from finesieve.core.errors import Conflict, NotAllowed
from finesieve.core.fields.about import HOUSE
from finesieve.services.filling.kinds import DecisionKind, State, Wanted, WantedLine
from finesieve.services.kernel.scope import Unit
from finesieve.services.kernel.tasks import begin_task
from finesieve.services.values.value_lines import show_past
from finesieve.services.values.writing import add_to_row, change_row
from finesieve.store.reading.rows import HOUSE_ID
from finesieve.store.tables import Decision

__all__ = ["HOUSE_VALUES"]


def _wanted(unit: Unit, row: Decision) -> Wanted:
    if row.asked["target_slug"]:
        lines = tuple((f"{key} of {row.asked['target_slug']}", str(data)) for key, data in row.asked["values"].items())
        return Wanted((), lines)
    known = unit.catalogue.keys_of(HOUSE)
    set_to = {key: show_past(known[key], data) for key, data in row.asked["values"].items() if key in known}
    added = {key: _signed(data) for key, data in row.asked.get("adds", {}).items() if key in known}
    return Wanted(
        tuple(
            WantedLine(known[key], known[key].show(unit.moment.house.get(key)), shown)
            for key, shown in (set_to | added).items()
            if unit.sees(known[key])
        )
    )


def _signed(difference: str) -> str:
    """A difference as it is shown: `3 more`, `2 less`."""
    return f"{difference.removeprefix('-')} less" if difference.startswith("-") else f"{difference} more"


def _apply(unit: Unit, row: Decision, source: str) -> State:
    if not unit.edits:
        raise NotAllowed("House values are changed by editors and owners.")
    asked = row.asked
    if asked["target_slug"]:
        payload = {name: asked[name] for name in ("target_slug", "values", "source", "from")}
        begin_task(unit, "hand_over", f"House values for {asked['target_slug']}", payload, len(asked["values"]))
        return "applied"
    known = {field.key: field for field in unit.catalogue.stored_about(HOUSE)}
    try:
        values = {key: known[key].from_kept(data) for key, data in asked["values"].items() if key in known}
        added = {key: Decimal(data) for key, data in asked.get("adds", {}).items() if key in known}
    except ValueError as problem:
        raise Conflict(f"A value does not fit any more: {problem}.") from None
    values |= add_to_row(unit, HOUSE, HOUSE_ID, added)
    change_row(unit, HOUSE, HOUSE_ID, values, source)
    return "applied"


HOUSE_VALUES: Final = DecisionKind(
    "house_values",
    "House values that a form would set",
    "sent “{form}”, whose answers would set house values. Nothing is set before you say so.",
    _wanted,
    _apply,
    "Set them",
)
