"""What was answered in conversations: which ones to list, their answers in words, all of them as a file."""

from collections.abc import Iterator, Mapping
from datetime import date, datetime, time, timedelta
from typing import Any, Final, Literal

from pydantic import Field as Bounds

from finesieve.core.chat.journal import read_state
from finesieve.core.chat.script import Script
from finesieve.core.fields.about import PERSON
from finesieve.services.chat.scripts import script_of
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.sheets import csv_lines
from finesieve.store.reading.conversations import asked_by_scripts, page_of_conversations
from finesieve.store.tables import Conversation

__all__ = ["TalkQuery", "answers_in_words", "conditions_of", "talks_as_csv", "withheld_scripts"]

_AT_ONCE: Final = 500


class TalkQuery(Input):
    """Which conversations: how they stand, begun from one day to another, with every word in something said."""

    state: Literal["", "script", "clerk", "ended", "stopped"] = ""
    since: date | None = None
    until: date | None = None
    search: str = Bounds(default="", max_length=100)


def conditions_of(unit: Unit, query: TalkQuery) -> dict[str, Any]:
    """The query as the store takes it: days begin and end by the clocks of the house."""
    zone = unit.catalogue.zone
    until = query.until + timedelta(days=1) if query.until and query.until < date.max else None
    return {
        "mode": query.state,
        "since": datetime.combine(query.since, time(), zone) if query.since else None,
        "until": datetime.combine(until, time(), zone) if until else None,
        "words": query.search.split()[:8],
    }


def withheld_scripts(unit: Unit) -> frozenset[int]:
    """The scripts whose conversations this role may not read: some version asks what the role may not see.

    What people typed, and what was said back, stands in the words; so these are kept from them as a whole.
    """
    if unit.edits or not unit.catalogue.for_editors:
        return frozenset()
    fields = unit.catalogue.by_id
    return frozenset(
        script
        for script, asked in asked_by_scripts(unit.session).items()
        if any(one in fields and not unit.sees(fields[one]) for one in asked)
    )


def _answered(unit: Unit, row: Conversation) -> dict[str, str]:
    """What was answered, by the key of the person's field, as far as this role sees it."""
    found: dict[str, str] = {}
    for entry in read_state(row.state).journal:
        for key in entry.person if entry.kind == "answer" else ():
            field = unit.catalogue.by_key.get(key)
            if field is not None and unit.sees(field):
                found[key] = entry.shown or entry.said
    return found


def answers_in_words(unit: Unit, row: Conversation) -> str:
    """A few of the answers with what they answer; who it is stands beside them already."""
    named = ("first_name", "last_name", "email")
    pairs = [(key, shown) for key, shown in _answered(unit, row).items() if shown and key not in named]
    return " · ".join(f"{unit.catalogue.by_key[key].label}: {shown}" for key, shown in pairs[:4])


def talks_as_csv(scope: Scope, script_id: int, query: TalkQuery) -> tuple[str, Iterator[str]]:
    """The short name of a script, and its conversations with what was answered as CSV. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = script_of(unit, script_id)
        slug, draft = row.slug, Script.model_validate(row.draft)
    return slug, csv_lines(_rows(scope, script_id, draft, query))


def _rows(scope: Scope, script_id: int, draft: Script, query: TalkQuery) -> Iterator[list[str]]:
    with scope.separate("reader") as unit:
        keys = _asked_ever(unit, script_id, draft)
        yield ["id", "begun_at", "last_at", "person_id", "channel", "state", *keys]
        if script_id in withheld_scripts(unit):
            return
        before = None
        while True:
            rows = page_of_conversations(unit.session, script_id, conditions_of(unit, query), before, _AT_ONCE)
            for row in rows:
                given: Mapping[str, str] = _answered(unit, row)
                at = (one.isoformat(timespec="seconds") for one in (row.begun_at, row.last_at))
                yield [
                    str(row.id), *at, str(row.person_id or ""), row.channel, row.mode,
                    *(given.get(key, "") for key in keys),
                ]  # fmt: skip
                unit.session.expunge(row)
            if len(rows) < _AT_ONCE:
                return
            before = rows[-1].id


def _asked_ever(unit: Unit, script_id: int, draft: Script) -> list[str]:
    """The keys of the fields that any version asks of a person, as far as this role sees them: those of the draft
    first, in the order of its lines."""
    now = [field_id for step in draft.steps if (field_id := getattr(step, "field_id", 0))]
    ever = sorted(asked_by_scripts(unit.session).get(script_id, ()))
    fields = (unit.catalogue.by_id.get(one) for one in dict.fromkeys([*now, *ever]))
    return [one.key for one in fields if one is not None and one.about == PERSON and one.stores and unit.sees(one)]
