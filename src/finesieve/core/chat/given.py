"""What cannot be typed in a conversation: it is given on a page of its own, which a link leads to.

Files and pictures, data, an address with all its lines, and secrets: of a secret neither the state nor what was said
keeps anything; it is written before the machine hears of it.
"""

from collections.abc import Mapping
from typing import Final

from finesieve.core.chat.answering import put_answer_parts, put_aside
from finesieve.core.chat.asking import ask_again
from finesieve.core.chat.journal import SET
from finesieve.core.chat.prepare import Subject
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import Ask
from finesieve.core.chat.turn import Message
from finesieve.core.chat.world import value_of
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import Json
from finesieve.core.phrases import phrase

__all__ = ["GIVEN", "arrive_at_page", "take_given"]

GIVEN: Final = "given"
"""How an answer was given that came from the page."""


def arrive_at_page(run: Run, step: Ask) -> bool:
    """Ask for what is given on a page of its own. Tells whether it waits."""
    fields = run.script.page_fields(step)
    if not fields:
        run.note("What it asks is not there any more, or may not be asked: passed over.")
    elif any(field.type.kind == "secret" for field in fields) and not run.world.confirmed:
        run.note("A secret is asked of nobody whose identity is not confirmed: passed over.")
        fields = ()
    if not fields:
        run.move(run.script.flow.leads(step.id, step.to))
        return False
    entry = put_aside(run)
    if entry is not None and entry.reply == GIVEN:
        put_answer_parts(run, step, entry.shown, GIVEN, {"person": entry.person, "records": entry.records})
        return False
    if step.known == "skip" and _is_known(run, step, fields):
        run.note("Known already.")
        put_answer_parts(run, step, "", "known", {})
        return False
    ask_again(run)
    return True


def _is_known(run: Run, step: Ask, fields: tuple[Field, ...]) -> bool:
    """Whether it is known already; of an address, its street and its town."""
    wanted = fields if not step.address else [one for one in fields if one.key.endswith(("_street", "_town"))]
    return all(value_of(_subject(one), run.row, run.moment) is not None for one in wanted)


def _subject(field: Field) -> Subject:
    return Subject(field.about, field)


def take_given(run: Run, given: Mapping[str, Json]) -> bool:
    """Take what was given on the page; tells whether that is what is asked at all."""
    step = run.step
    fields = run.script.page_fields(step) if isinstance(step, Ask) else ()
    if not fields:
        run.understood = "a reply of an earlier question"
        ask_again(run)
        return False
    open_ = [one for one in fields if one.type.kind != "secret" and one.key in given]
    amounts = {one.key: (SET, given[one.key]) for one in open_}
    shown = ", ".join(filter(None, (one.show(one.from_kept(given[one.key])) for one in open_)))
    if any(one.type.kind == "secret" for one in fields):
        shown = "••••"
    run.understood = shown
    text = phrase("I have noted {value}.", value=shown) if shown else "Thank you."
    run.messages.append(Message(run.say(text), "noted"))
    of_record = fields[0].about != PERSON
    parts = {"records": {run.state.record: amounts}} if of_record else {"person": amounts}
    put_answer_parts(run, step, shown, GIVEN, parts if amounts else {})
    return True
