"""The library of checks: tests of an answer that many questions use by name."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import TypeAdapter, ValidationError

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.limits import NAME
from finesieve.core.model.catalogue import LibraryCheck
from finesieve.core.model.checks import OwnCheck
from finesieve.services.kernel.changes import guard_removal, record_change, snapshot
from finesieve.services.kernel.inputs import explain_errors
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.texts import refuse_texts
from finesieve.services.usage.documents import documents_of_forms
from finesieve.store.tables import NamedCheckRow

__all__ = ["CheckUse", "change_check", "create_check", "list_checks", "remove_check"]

_OWN: TypeAdapter[OwnCheck] = TypeAdapter(OwnCheck)


@dataclass(frozen=True, slots=True)
class CheckUse:
    """A check of the library and the forms that use it, in their draft or in force: (id, title) each."""

    check: LibraryCheck
    forms: tuple[tuple[int, str], ...]


def list_checks(scope: Scope) -> tuple[CheckUse, ...]:
    """The checks of the library by name, each with where it is used."""
    with scope.reading("reader") as unit:
        used = _used(unit)
        return tuple(CheckUse(one, tuple(used.get(one.id, ()))) for one in unit.catalogue.checks.values())


def _used(unit: Unit) -> dict[int, list[tuple[int, str]]]:
    found: dict[int, list[tuple[int, str]]] = {}
    if not unit.catalogue.checks:
        return found
    for form in documents_of_forms(unit):
        asked = form.document.questions
        ids = {check.check_id for question in asked for check in question.checks if check.kind == "named"}
        for check_id in ids:
            found.setdefault(check_id, []).append((form.id, form.name))
    return found


def _read(unit: Unit, check_id: int, name: str, given: Mapping[str, Any]) -> tuple[str, dict[str, Any]]:
    name = " ".join(name.split())
    if not name or len(name) > NAME:
        raise InvalidInput({"name": "Give the check a name of at most 80 characters."})
    if any(one.name.lower() == name.lower() and one.id != check_id for one in unit.catalogue.checks.values()):
        raise InvalidInput({"name": "Another check has this name."})
    try:
        check = _OWN.validate_python({key: value for key, value in given.items() if value not in ("", None)})
    except ValidationError as error:
        messages = explain_errors(error)
        fallback = "pattern" if given.get("kind") == "pattern" else "low"
        raise InvalidInput({(key if key in given else fallback): words for key, words in messages.items()}) from None
    refuse_texts(unit, {"message": check.message})
    return name, check.model_dump(mode="json", exclude_none=True)


def create_check(scope: Scope, name: str, given: Mapping[str, Any]) -> int:
    """Put a check into the library; gives its id. Raises InvalidInput by input."""
    with scope.transaction("editor") as unit:
        name, settings = _read(unit, 0, name, given)
        row = NamedCheckRow(workspace_id=unit.workspace_id, name=name, settings=settings)
        unit.session.add(row)
        unit.session.flush()
        record_change(unit, "named_check", row.id or 0, f"Added the check {name}", None)
        return row.id or 0


def change_check(scope: Scope, check_id: int, name: str, given: Mapping[str, Any]) -> int:
    """Change a check, at once wherever it is used; gives the id for undoing. Raises NotFound, InvalidInput by input."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(NamedCheckRow, check_id, with_for_update=True)
        if row is None:
            raise NotFound("There is no such check.")
        before = snapshot(unit, "named_check", check_id)
        row.name, row.settings = _read(unit, check_id, name, given)
        unit.session.add(row)
        return record_change(unit, "named_check", check_id, f"Changed the check {row.name}", before)


def _why_kept(unit: Unit, check_id: int) -> str:
    """Why a check cannot be taken out of the library; "" where it can."""
    row, used = unit.session.get(NamedCheckRow, check_id), _used(unit).get(check_id, [])
    if row is None or not used:
        return ""
    return f"“{row.name}” is used in {', '.join(title for _, title in used)}; take it out there first."


guard_removal("named_check", _why_kept)


def remove_check(scope: Scope, check_id: int) -> int:
    """Take a check out of the library; gives the id for undoing. Raises NotFound, and Conflict while a form uses it."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(NamedCheckRow, check_id, with_for_update=True)
        if row is None:
            raise NotFound("There is no such check.")
        why_kept = _why_kept(unit, check_id)
        if why_kept:
            raise Conflict(why_kept)
        before = snapshot(unit, "named_check", check_id)
        name = row.name
        unit.session.delete(row)
        return record_change(unit, "named_check", check_id, f"Removed the check {name}", before)
