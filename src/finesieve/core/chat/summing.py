"""What was answered in a conversation, for its sum-up."""

from collections.abc import Mapping
from dataclasses import dataclass

from finesieve.core.chat.journal import State
from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.world import value_of
from finesieve.core.forms.rows import FormRow
from finesieve.core.language.program import Moment

__all__ = ["Answered", "answered_so_far"]


@dataclass(frozen=True, slots=True)
class Answered:
    """One answer: its place in the journal, what was asked, and what it is now, as people read it."""

    place: int
    label: str
    shown: str


def answered_so_far(
    scripts: Mapping[str, PreparedScript], state: State, row: FormRow, moment: Moment
) -> tuple[Answered, ...]:
    """The answers in their order, each question once: as it was answered last. What only led somewhere is left out."""
    found: dict[tuple[str, str], Answered] = {}
    for place, entry in enumerate(state.journal):
        script = scripts.get(entry.place[0])
        step = script.flow.by_id.get(entry.place[1]) if script is not None else None
        if entry.kind != "answer" or script is None or step is None:
            continue
        subject = script.subject_of(step)
        if subject is None:
            continue
        value = value_of(subject, row, moment)
        shown = "••••" if subject.field.type.kind == "secret" else subject.field.show(value)
        found.pop(entry.place, None)
        found[entry.place] = Answered(place, subject.field.label, shown or "–")
    return tuple(found.values())
