"""What was answered in a conversation, for its sum-up."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from finesieve.core.chat.journal import Entry, State, fold
from finesieve.core.chat.prepare import PreparedScript, Subject
from finesieve.core.chat.records import collection_of, kind_of, title_of
from finesieve.core.chat.script import ADDRESS_NAMES, Ask, Choose, EachRecord
from finesieve.core.chat.world import TalkWorld, member_of, value_of
from finesieve.core.forms.rows import FormRow, inside
from finesieve.core.language.program import Moment
from finesieve.core.values import Value

__all__ = ["Answered", "answered_so_far"]


@dataclass(frozen=True, slots=True)
class Answered:
    """One answer: its place in the journal, what was asked, and what it is now, as people read it."""

    place: int
    label: str
    shown: str


def answered_so_far(
    scripts: Mapping[str, PreparedScript], world: TalkWorld, state: State, row: FormRow, moment: Moment
) -> tuple[Answered, ...]:
    """The answers in their order, each question once, of a record once for each: as it was answered last.

    What only led somewhere is left out.
    """
    found: dict[tuple[str, str, str], Answered] = {}
    members: dict[str, Mapping[str, Value]] = {}
    for place, entry in enumerate(state.journal):
        slug, step_id, record = entry.question
        script = scripts.get(slug)
        step = script.flow.by_id.get(step_id) if script is not None else None
        if entry.kind != "answer" or script is None or step is None:
            continue
        script = script.within(collection_of(record)) if record else script
        if record and record not in members:
            members[record] = member_of(script, world, state, fold(state.journal), record, moment)
        one = _answer(script, step, entry, inside(row, members[record]) if record else row, moment)
        if one is not None:
            label = f"{title_of(script, members[record], record)}: {one[0]}" if record else one[0]
            found.pop(entry.question, None)
            found[entry.question] = Answered(place, label, one[1] or "–")
    return tuple(found.values())


def _answer(
    script: PreparedScript, step: Any, entry: Entry, row: Mapping[str, Value], moment: Moment
) -> tuple[str, str] | None:
    """What was asked, and the answer as it is now; None for what only led somewhere."""
    if isinstance(step, EachRecord) and entry.stack[-1].record:
        return None  # whether there is another
    if isinstance(step, EachRecord):
        return kind_of(script, script.collection_of(step)), entry.shown
    if not isinstance(step, Ask | Choose):
        return None
    if isinstance(step, Ask) and step.address:
        fields = script.page_fields(step)
        lines = (one.show(value_of(Subject(one.about, one), row, moment)) for one in fields)
        return ADDRESS_NAMES[step.address], ", ".join(filter(None, lines))
    subject = script.subject_of(step)
    if subject is None:
        return None
    secret = subject.field.type.kind == "secret"
    return subject.field.label, "••••" if secret else subject.field.show(value_of(subject, row, moment))
