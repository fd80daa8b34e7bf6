"""Chat scripts in files: taken out, and put in."""

from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import Any

from sqlmodel import col, select

from finesieve.core.chat.portable import localised_script, portable_script
from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.problems import script_problems
from finesieve.core.chat.script import Script
from finesieve.core.errors import InvalidInput
from finesieve.core.setup.document import ScriptPart
from finesieve.services.kernel.scope import Unit
from finesieve.store.tables import ChatScriptRow, ChatScriptVersion

__all__ = ["put_scripts", "take_scripts"]


def take_scripts(unit: Unit) -> tuple[ScriptPart, ...]:
    """All chat scripts, free of ids."""
    rows = unit.session.exec(select(ChatScriptRow).order_by(col(ChatScriptRow.id))).all()
    return tuple(
        ScriptPart(
            slug=row.slug, document=portable_script(Script.model_validate(row.draft), unit.catalogue),
            published=row.published > 0,
        )
        for row in rows
    )  # fmt: skip


def put_scripts(
    unit: Unit,
    parts: Sequence[ScriptPart],
    counts: Counter[str],
    changing: Callable[[str, Any, str], AbstractContextManager[None]],
) -> None:
    """Add or change these scripts; one that is in force in the file and not yet here is published where it can be.

    Raises InvalidInput where one names what is not there.
    """
    slugs = [part.slug for part in parts]
    for part in parts:
        try:
            script = Script.model_validate(localised_script(part.document, unit.catalogue))
        except KeyError as problem:
            message = f"The chat script {part.slug} names {problem.args[0]}, which is not there."
            raise InvalidInput({"file": message}) from None
        document = script.model_dump(mode="json")
        row = unit.session.exec(select(ChatScriptRow).where(col(ChatScriptRow.slug) == part.slug)).first()
        if row is None:
            row = ChatScriptRow(workspace_id=unit.workspace_id, slug=part.slug, draft=document)
            unit.session.add(row)
            unit.session.flush()
            counts["added"] += 1
        elif row.draft != document:
            with changing("script", row, part.slug):
                row.draft, row.revision = document, row.revision + 1
        if part.published and not row.published and not script_problems(PreparedScript(script, unit.catalogue), slugs):
            _publish(unit, row, document)


def _publish(unit: Unit, row: ChatScriptRow, document: dict[str, Any]) -> None:
    row.published = 1
    version = ChatScriptVersion(
        script_id=row.id or 0, number=1, workspace_id=unit.workspace_id, document=document, at=unit.moment.now,
        actor=unit.actor,
    )  # fmt: skip
    unit.session.add(row)
    unit.session.add(version)
