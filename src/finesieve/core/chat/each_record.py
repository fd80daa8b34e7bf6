"""Lines about records: which one, one after the other, and whether there is another."""

from dataclasses import replace

from finesieve.core.chat.answering import keep_answer, put_aside
from finesieve.core.chat.asking import AGAIN, ENOUGH, NEW_RECORD, ask_again
from finesieve.core.chat.journal import Entry, fold
from finesieve.core.chat.records import kind_of, new_name, title_of
from finesieve.core.chat.replies import Offer
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import EachRecord
from finesieve.core.chat.turn import Message

__all__ = ["arrive_at_record", "choose_record", "see_to_another"]


def arrive_at_record(run: Run, step: EachRecord) -> bool:
    """Begin with a record, or go on to the next one. Tells whether it waits."""
    collection = run.script.collection_of(step)
    if not collection:
        run.note("The records it is about are not there any more: passed over.")
        return _leave(run, step)
    before = run.state.record
    if step.which == "each":
        return _next_one(run, step, collection, before)
    if before and step.another:
        return _another(run, step)
    return _leave(run, step) if before else _first(run, step, collection)


def _leave(run: Run, step: EachRecord) -> bool:
    run.enter(run.script.flow.leads(step.id, step.to), "")
    return False


def _next_one(run: Run, step: EachRecord, collection: str, before: str) -> bool:
    names = list(run.records(collection))
    place = names.index(before) + 1 if before in names else 0
    if place >= len(names):
        if not before:
            run.note("There is no record to go through.")
        return _leave(run, step)
    _enter(run, step, names[place])
    if not run.state.reuse:
        text = run.filled(step.text) or title_of(run.script, run.member(names[place]), names[place])
        run.messages.append(Message(text, line=step.id))
    return False


def _enter(run: Run, step: EachRecord, record: str) -> None:
    """Go to the first of the lines about a record; where there is none, they are over at once."""
    flow = run.script.flow
    first = flow.leads(step.id, "", step.inside.id)
    if flow.block(first) == step.id and first != step.id:
        run.enter(first, record)
    else:
        _leave(run, step)


def _first(run: Run, step: EachRecord, collection: str) -> bool:
    """The first record of the lines, or one more: a new one, the only one, or the one that is chosen."""
    entry = put_aside(run)
    names = list(run.records(collection))
    if entry is not None and (entry.reply == NEW_RECORD or entry.reply.removeprefix("r:") in names):
        run.keep(replace(entry, stack=run.state.stack, visit=run.state.stack[-1].visit))
        _open(run, step, collection, entry.reply)
        return False
    if step.which == "new" or (step.or_new and not names):
        _open(run, step, collection, NEW_RECORD)
        return False
    if not names:
        run.note("They have none of these records: passed over.")
        return _leave(run, step)
    if len(names) == 1 and not step.or_new:
        run.note("There is one only: it is taken.")
        _enter(run, step, names[0])
        return False
    ask_again(run)
    return True


def _open(run: Run, step: EachRecord, collection: str, reply: str) -> None:
    if reply == NEW_RECORD:
        _enter(run, step, new_name(fold(run.state.journal), collection))
    else:
        _enter(run, step, reply.removeprefix("r:"))


def _another(run: Run, step: EachRecord) -> bool:
    """Whether there is another; where the answer was put aside by a correction, it still holds."""
    entry = put_aside(run)
    if entry is not None:
        return see_to_another(run, step, wanted=entry.reply == AGAIN)
    run.change(sub={"kind": "another"})
    ask_again(run)
    return True


def see_to_another(run: Run, step: EachRecord, *, wanted: bool) -> bool:
    """Go on as they said: with another, or with what follows. Tells whether it waits."""
    stack = run.state.stack
    run.keep(Entry("answer", stack[-1].visit, stack, reply=AGAIN if wanted else ENOUGH))
    if not wanted:
        return _leave(run, step)
    run.change(sub={}, stack=(*stack[:-1], replace(stack[-1], record="")))
    return _first(run, step, run.script.collection_of(step))


def choose_record(run: Run, step: EachRecord, offer: Offer, said: str) -> None:
    """Take the record that was chosen, and go on to the lines about it."""
    collection = run.script.collection_of(step)
    shown = offer.label if offer.id != NEW_RECORD else f"{offer.label}: {kind_of(run.script, collection)}"
    keep_answer(run, Entry("answer", run.state.stack[-1].visit, run.state.stack, said, shown, offer.id))
    _open(run, step, collection, offer.id)
