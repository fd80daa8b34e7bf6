"""Two people save the same page: what only one of them changed is kept from both; a real clash is told to the second.

One mechanism for every page that shows inputs and saves them: what the page showed (`was`) comes back with what was
typed, and is held against what there is `now`, in the transaction that saves and with the row locked.
"""

from collections.abc import Mapping
from typing import Any, TypeVar

from pydantic import BaseModel
from sqlmodel import col, select

from finesieve.core.errors import Overtaken
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.store.tables import DefinitionChange, History

__all__ = ["merged", "merged_parts", "merged_set", "merged_values"]

_Model = TypeVar("_Model", bound=BaseModel)


def merged_parts(
    asked: Mapping[str, Any], was: Mapping[str, Any], now: Mapping[str, Any], by: str, labels: Mapping[str, str]
) -> dict[str, Any]:
    """Of each input what was asked, where that differs from what the page showed; else what it is now.

    Raises Overtaken, with what they did, where both have changed the same input, each to something else.
    """
    found: dict[str, Any] = {}
    clashes = []
    for name, wanted in asked.items():
        shown, there = was.get(name, now.get(name)), now.get(name)
        if wanted == shown:
            found[name] = there
            continue
        if there not in (shown, wanted):
            clashes.append((labels.get(name, name.replace("_", " ")), _said(shown), _said(there)))
        found[name] = wanted
    if clashes:
        raise Overtaken(by, clashes)
    return found


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) if value not in (None, "", ()) else "nothing"


def merged(unit: Unit, entity: str, entity_id: int, asked: _Model, was: _Model | None, now: _Model) -> _Model:
    """A definition as it is to be saved; see `merged_parts`. Without `was`, made on no page, it counts as it is."""
    if was is None:
        return asked
    parts = merged_parts(dict(asked), dict(was), dict(now), _who_changed(unit, entity, entity_id), {})
    return asked.model_copy(update=parts)


def merged_values(
    unit: Unit,
    about: str,
    row_id: int,
    typed: Mapping[str, str],
    was: Mapping[str, str] | None,
    stored: Mapping[str, Value],
) -> dict[str, str]:
    """Of the values typed, by field key, those that the page showed otherwise. Raises Overtaken; see `merged_parts`.

    `stored` are the values as they stand, read in this transaction with their row locked.
    """
    if was is None:
        return dict(typed)
    fields = {key: field for key, field in unit.catalogue.keys_of(about).items() if key in typed and key in was}
    now = {key: field.raw(stored.get(key)) for key, field in fields.items()}
    compared = {key: typed[key] for key in fields}
    labels = {key: field.label for key, field in fields.items()}
    found = merged_parts(compared, was, now, _who_wrote(unit, about, row_id), labels)
    changed = {key: text for key, text in found.items() if text != now[key]}
    return {key: text for key, text in typed.items() if key not in fields or key in changed}


def merged_set(asked: tuple[str, ...], was: tuple[str, ...] | None, now: tuple[str, ...]) -> tuple[str, ...]:
    """What is put on and taken off, done to what is there now: sets never clash."""
    if was is None:
        return asked
    kept = [one for one in now if one in asked or one not in was]
    return tuple(dict.fromkeys((*kept, *(one for one in asked if one not in was))))


def _who_changed(unit: Unit, entity: str, entity_id: int) -> str:
    query = (
        select(DefinitionChange.actor)
        .where(col(DefinitionChange.entity) == entity, col(DefinitionChange.entity_id) == entity_id)
        .order_by(col(DefinitionChange.id).desc())
    )
    return unit.session.exec(query.limit(1)).first() or "Somebody else"


def _who_wrote(unit: Unit, about: str, row_id: int) -> str:
    query = select(History.actor).where(col(History.about) == about, col(History.entity_id) == row_id)
    return unit.session.exec(query.order_by(col(History.id).desc()).limit(1)).first() or "Somebody else"
