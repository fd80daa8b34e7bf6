"""Chat scripts: made, read with what is found in them, published, returned to an earlier version."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlmodel import col, func, select

from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.problems import ScriptProblem, script_problems
from finesieve.core.chat.reasoning import ScriptFinding, script_findings
from finesieve.core.chat.script import Script
from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.limits import TITLE
from finesieve.core.model.catalogue import Catalogue
from finesieve.services.kernel.changes import guard_removal, record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.slugs import free_slug
from finesieve.store.definitions.catalogue import touch
from finesieve.store.tables import ChatScriptRow, ChatScriptVersion, Conversation

__all__ = [
    "ScriptEntry", "ScriptView", "VersionLine", "create_script", "delete_script", "drafts_of", "list_scripts",
    "publish_script", "read_script", "return_to_version", "script_of", "script_versions", "slugs_of",
    "withdraw_script",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class ScriptEntry:
    """A script in a list: how many lines it has, the version in force, whether the draft differs from it."""

    id: int
    slug: str
    title: str
    lines: int
    published: int
    unpublished: bool
    group: str = ""


@dataclass(frozen=True, slots=True)
class ScriptView:
    """A script as its writer sees it. `others` are the scripts that it can lead through, by short name and title."""

    id: int
    slug: str
    revision: int
    published: int
    unpublished: bool
    document: Script
    prepared: PreparedScript
    catalogue: Catalogue
    problems: tuple[ScriptProblem, ...]
    findings: tuple[ScriptFinding, ...]
    others: tuple[tuple[str, str], ...]
    conversations: int = 0


@dataclass(frozen=True, slots=True)
class VersionLine:
    """A version of a script."""

    number: int
    at: datetime
    actor: str
    lines: int


def script_of(unit: Unit, script_id: int, *, lock: bool = False) -> ChatScriptRow:
    """The row of a script. Raises NotFound."""
    row = unit.session.get(ChatScriptRow, script_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such script.")
    return row


def _differs(unit: Unit, row: ChatScriptRow) -> bool:
    version = unit.session.get(ChatScriptVersion, (row.id, row.published)) if row.published else None
    return version is None or version.document != row.draft


def list_scripts(scope: Scope) -> list[ScriptEntry]:
    """All scripts, in the order they were made."""
    with scope.reading("reader") as unit:
        on = (col(ChatScriptVersion.script_id) == col(ChatScriptRow.id)) & (
            col(ChatScriptVersion.number) == col(ChatScriptRow.published)
        )
        query = (
            select(ChatScriptRow, ChatScriptVersion).outerjoin(ChatScriptVersion, on).order_by(col(ChatScriptRow.id))
        )
        return [
            ScriptEntry(
                row.id or 0, row.slug, str(row.draft["title"]), len(row.draft.get("steps", ())), row.published,
                version is None or version.document != row.draft, str(row.draft.get("group", "")),
            )
            for row, version in unit.session.exec(query).all()
        ]  # fmt: skip


def slugs_of(unit: Unit) -> tuple[tuple[str, str], ...]:
    """The short names and titles of all scripts."""
    rows = unit.session.exec(select(ChatScriptRow).order_by(col(ChatScriptRow.id))).all()
    return tuple((row.slug, str(row.draft["title"])) for row in rows)


def drafts_of(unit: Unit) -> dict[str, PreparedScript]:
    """The drafts of all scripts, ready to be run, by their short names."""
    rows = unit.session.exec(select(ChatScriptRow)).all()
    return {row.slug: PreparedScript(Script.model_validate(row.draft), unit.catalogue) for row in rows}


def read_script(scope: Scope, script_id: int) -> ScriptView:
    """A script with its problems and findings. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = script_of(unit, script_id)
        document = Script.model_validate(row.draft)
        prepared = PreparedScript(document, unit.catalogue)
        others = slugs_of(unit)
        problems = script_problems(prepared, (slug for slug, _ in others))
        mine = select(func.count()).select_from(
            select(Conversation.id).where(col(Conversation.script_id) == script_id).limit(1_000).subquery()
        )
        return ScriptView(
            script_id, row.slug, row.revision, row.published, _differs(unit, row), document, prepared, unit.catalogue,
            problems, script_findings(prepared, unit.moment), tuple(one for one in others if one[0] != row.slug),
            unit.session.exec(mine).one(),
        )  # fmt: skip


def create_script(scope: Scope, title: str, steps: tuple[Mapping[str, Any], ...] = ()) -> int:
    """Make a script; gives its id. Raises InvalidInput for a title that will not do."""
    if not title.strip() or len(title) > TITLE:
        raise InvalidInput({"title": f"Give it a title of at most {TITLE} characters."})
    with scope.transaction("editor") as unit:
        touch(unit.session, unit.workspace_id)  # whoever makes one at the same time waits here
        slug = free_slug(title.strip(), set(unit.session.exec(select(ChatScriptRow.slug)).all()))
        document = Script.model_validate({"title": title.strip(), "steps": list(steps), "languages": [_language(unit)]})
        row = ChatScriptRow(workspace_id=unit.workspace_id, slug=slug, draft=document.model_dump(mode="json"))
        unit.session.add(row)
        unit.session.flush()
        record_change(unit, "script", row.id or 0, f"Made the chat script {document.title}", None)
        return row.id or 0


def _language(unit: Unit) -> str:
    return unit.manner.language[:2] or "en"


def publish_script(scope: Scope, script_id: int) -> int:
    """Put the draft into force; gives the number of the version. Conversations under way keep theirs.

    Raises NotFound, InvalidInput for one with problems.
    """
    with scope.transaction("editor") as unit:
        row = script_of(unit, script_id, lock=True)
        prepared = PreparedScript(Script.model_validate(row.draft), unit.catalogue)
        problems = script_problems(prepared, (slug for slug, _ in slugs_of(unit)))
        if problems:
            number = prepared.flow.numbers.get(problems[0].line, 0)
            raise InvalidInput({"": f"Line {number}: {problems[0].message}" if number else problems[0].message})
        last = select(func.max(col(ChatScriptVersion.number))).where(col(ChatScriptVersion.script_id) == script_id)
        version = (unit.session.exec(last).one() or 0) + 1
        unit.session.add(
            ChatScriptVersion(
                script_id=script_id, number=version, workspace_id=unit.workspace_id, document=row.draft,
                at=unit.moment.now, actor=unit.actor,
            )
        )  # fmt: skip
        row.published = version
        unit.session.add(row)
        return version


def withdraw_script(scope: Scope, script_id: int) -> None:
    """Nobody can begin it any more; conversations under way go on. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = script_of(unit, script_id, lock=True)
        row.published = 0
        unit.session.add(row)


def delete_script(scope: Scope, script_id: int) -> None:
    """Remove a script that nobody can begin. Raises NotFound, InvalidInput for one in force or with conversations."""
    with scope.transaction("editor") as unit:
        row = script_of(unit, script_id, lock=True)
        why_kept = _why_kept(unit, script_id)
        if why_kept:
            raise InvalidInput({"": why_kept})
        before = snapshot(unit, "script", script_id)
        unit.session.delete(row)
        record_change(unit, "script", script_id, f"Removed the chat script {row.draft['title']}", before)


def _why_kept(unit: Unit, script_id: int) -> str:
    """Why a script cannot be removed; "" where it can."""
    row = unit.session.get(ChatScriptRow, script_id)
    if row is not None and row.published:
        return "Take it out of force first."
    held = select(Conversation.id).where(col(Conversation.script_id) == script_id).limit(1)
    is_held = unit.session.exec(held).first() is not None
    return "Conversations were held by it, and are kept with it." if is_held else ""


guard_removal("script", _why_kept)


def script_versions(scope: Scope, script_id: int) -> list[VersionLine]:
    """The versions of a script, the newest first."""
    with scope.reading("reader") as unit:
        query = select(ChatScriptVersion).where(col(ChatScriptVersion.script_id) == script_id)
        rows = unit.session.exec(query.order_by(col(ChatScriptVersion.number).desc())).all()
        return [VersionLine(row.number, row.at, row.actor, len(row.document.get("steps", ()))) for row in rows]


def return_to_version(scope: Scope, script_id: int, number: int) -> int:
    """Make an earlier version the draft; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = script_of(unit, script_id, lock=True)
        version = unit.session.get(ChatScriptVersion, (script_id, number))
        if version is None:
            raise NotFound("There is no such version.")
        before = snapshot(unit, "script", script_id)
        row.draft, row.revision = version.document, row.revision + 1
        unit.session.add(row)
        return record_change(unit, "script", script_id, f"Returned to version {number}", before)
