"""Running on from line to line until something has to be waited for."""

import hashlib
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any, Final

from finesieve.core.chat.answering import put_answer, reused
from finesieve.core.chat.asking import ask_again, offered
from finesieve.core.chat.confirming import arrive_at_confirming
from finesieve.core.chat.each_record import arrive_at_record
from finesieve.core.chat.given import arrive_at_page
from finesieve.core.chat.journal import ADD, SET, Entry, Frame, fold
from finesieve.core.chat.prepare import Subject
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import (
    END,
    Action,
    Ask,
    Branch,
    Choose,
    Confirm,
    Do,
    EachRecord,
    End,
    GoTo,
    HandOver,
    Say,
    SumUp,
    Wait,
)
from finesieve.core.chat.turn import Message
from finesieve.core.chat.world import value_of
from finesieve.core.fields.about import HOUSE
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.values import plain_number

__all__ = ["end", "go_on", "is_filled"]

_MOST_STEPS: Final = 200
"""So many lines without waiting, and a clerk has to look."""
_DEEPEST: Final = 8


def go_on(run: Run) -> None:
    """Run until something has to be waited for."""
    for _ in range(_MOST_STEPS):
        if run.state.mode != "script":
            return
        step = run.step
        if step is None:
            if not _leave(run):
                return
            continue
        if not run.state.stack[-1].visit:
            visit = run.state.visits + 1
            at = run.state.stack[-1]
            frame = Frame(at.script, at.step, visit, at.record)
            run.change(visits=visit, stack=(*run.state.stack[:-1], frame), tries=0, sub={})
        if _ARRIVE[type(step)](run, step):
            return
    run.note("200 lines without waiting for anybody: a clerk has to look.")
    run.hand_over("The script went round in circles.")


def _leave(run: Run) -> bool:
    """The end of a script: back to the one around it, or the end of all. Tells whether it goes on."""
    stack = run.state.stack
    if len(stack) > 1:
        inner, outer = stack[-1].script, stack[-2].script
        shared = set(run.scripts[inner].passing) & set(run.scripts[outer].passing)
        made = fold(run.state.journal).passing
        results = {f"{outer}:{key}": made.get(f"{inner}:{key}") for key in sorted(shared)}
        run.change(stack=stack[:-1])
        run.renew()
        if results:
            run.keep(Entry("done", 0, run.state.stack, passing=results))
        return True
    end(run, "")
    return False


def end(run: Run, text: str) -> None:
    if text:
        run.messages.append(Message(text, line=run.state.place[1]))
    run.commit()
    run.change(mode="ended", stack=(), sub={}, reuse=())
    run.quiet = "" if run.messages else "The conversation is over."
    run.say_mode()


def _arrive_say(run: Run, step: Say) -> bool:
    if not run.state.reuse:
        place = _alternative(run, step)
        text = run.filled(step.texts[place].text)
        link = (run.filled(step.link_label), run.filled(step.link_to))
        if text or step.picture:
            if len(step.texts) > 1:
                run.note(f"Said in way {place + 1} of {len(step.texts)}.")
            run.messages.append(
                Message(text, "say", step.id, step.picture, run.say(step.shows), link if all(link) else ("", ""))
            )
    run.move(run.script.flow.leads(step.id, step.to))
    return False


def _alternative(run: Run, step: Say) -> int:
    """Which way to say it: the same for the same conversation and visit, in all as the shares say."""
    total = sum(one.share for one in step.texts)
    if len(step.texts) == 1:
        return 0
    mark = f"{run.state.seed}:{step.id}:{run.state.stack[-1].visit}".encode()
    drawn = int.from_bytes(hashlib.blake2s(mark, digest_size=8).digest(), "big") % total
    for place, one in enumerate(step.texts):
        drawn -= one.share
        if drawn < 0:
            return place
    return 0


def _arrive_ask(run: Run, step: Ask | Choose) -> bool:
    if isinstance(step, Ask) and (step.address or run.script.page_fields(step)):
        return arrive_at_page(run, step)
    subject = run.script.subject_of(step)
    asks_something = bool(step.field_id or step.passing)
    if asks_something and (subject is None or (subject.of_record and not run.state.record)):
        run.note("What it asks is not there any more, or may not be asked: passed over.")
        run.move(run.script.flow.leads(step.id, getattr(step, "to", "")))
        return False
    if isinstance(step, Choose) and not any(one.kind == "reply" for one in offered(run, step, subject)):
        run.note("None of its replies is offered any more: a clerk goes on.")
        run.hand_over("None of the replies is offered any more.")
        return True
    if reused(run, step, subject):
        return False
    if subject is not None and step.known != "ask" and not run.state.sub:
        value = value_of(subject, run.row, run.moment)
        if value is not None and _may_show(run, subject):
            if step.known == "skip":
                run.note(f"Known already: {subject.field.show(value)}.")
                put_answer(run, step, subject, None, "", subject.field.show(value), reply="known")
                return False
            run.change(sub={"kind": "still"})
    ask_again(run)
    return True


def _may_show(run: Run, subject: Subject) -> bool:
    return (subject.of, subject.key) not in run.script.catalogue.not_for_the_person


def _arrive_branch(run: Run, step: Branch) -> bool:
    for case in step.cases:
        program = run.script.program(case.rule)
        verdict = program(run.row, run.moment) if program is not None else None
        if verdict is True:
            run.note(f"{case.rule}: true.")
            run.move(run.script.flow.leads(step.id, case.to, case.id))
            return False
        run.note(f"{case.rule}: {'false' if verdict is False else 'can’t tell'}.")
    run.move(run.script.flow.leads(step.id, step.to))
    return False


def _arrive_do(run: Run, step: Do) -> bool:
    frame, stack = run.state.stack[-1], run.state.stack
    for action in step.actions:
        parts = _done(run, action)
        if parts:
            run.keep(Entry("done", frame.visit, stack, **parts))
    if step.now:
        run.commit()
    run.move(run.script.flow.leads(step.id, step.to))
    return False


def _done(run: Run, action: Action) -> dict[str, Any]:
    """What an action makes of the values; nothing where its formula comes to nothing."""
    if action.verb in ("tag_on", "tag_off"):
        return {"tags": {action.value.strip(): action.verb == "tag_on"}}
    if action.verb in ("list_on", "list_off"):
        known = next((one for one in run.script.catalogue.lists if one.id == action.list_id), None)
        return {"lists": {known.key: action.verb == "list_on"}} if known is not None else {}
    if action.verb == "send":
        return {"sends": (run.filled(action.value),)}
    subject = run.script.subject(action.field_id, action.passing)
    if subject is None or (subject.of_record and not run.state.record):
        run.note("What it changes is not there any more: nothing done.")
        return {}
    return run.amount(subject, SET, None) if action.verb == "is_emptied" else _worked_out(run, action, subject)


def _worked_out(run: Run, action: Action, subject: Subject) -> dict[str, Any]:
    program = run.script.program(action.value)
    value = program(run.row, run.moment) if program is not None else None
    label = subject.field.label
    if value is None:
        run.note(f"{action.value} is blank: {label} stays as it was.")
        return {}
    if action.verb == "becomes":
        data = to_json(value)
        try:
            from_json(data, subject.field.value_type)
        except ValueError as why:
            run.note(f"{label} cannot become that: {why}.")
            return {}
        return run.amount(subject, SET, data)
    if not isinstance(value, Decimal):
        run.note(f"{action.value} is no number: {label} stays as it was.")
        return {}
    if value_of(subject, run.row, run.moment) is None:
        run.note(f"{label} is blank: it counts from {subject.field.settings.default or 0}.")
    return run.amount(subject, ADD, plain_number(-value if action.verb == "loses" else value))


def _arrive_sum(run: Run, step: SumUp) -> bool:
    run.change(sub={"kind": "sum"}, reuse=())
    ask_again(run)
    return True


def is_filled(run: Run, step: Wait) -> bool:
    """Whether the field that a line waits for is filled: of the house, or of a confirmed person."""
    subject = run.script.subject(step.field_id, "") if step.field_id else None
    if subject is None:
        return False
    values = run.world.moment.house if subject.of == HOUSE else run.world.situation.stored
    return values.get(subject.key) is not None


def _arrive_wait(run: Run, step: Wait) -> bool:
    waits = step.minutes or (step.field_id and run.script.subject(step.field_id, "") is not None)
    if not waits or is_filled(run, step):
        run.move(run.script.flow.leads(step.id, step.to))
        return False
    run.change(since=run.moment.now.isoformat())
    run.commit()
    ask_again(run)
    return True


def _arrive_hand(run: Run, step: HandOver) -> bool:
    text = run.filled(step.text) or run.say("One of us will take it from here.")
    run.messages.append(Message(text, line=step.id))
    run.hand_over(run.filled(step.note))
    return True


def _arrive_goto(run: Run, step: GoTo) -> bool:
    on = run.script.flow.leads(step.id, step.to)
    if not step.script:
        run.move(on)
        return False
    inner = run.scripts.get(step.script)
    if inner is None or len(run.state.stack) >= _DEEPEST:
        run.note("The script it leads through is not there, or it goes too deep: passed over.")
        run.move(on)
        return False
    run.move(on)
    run.change(stack=(*run.state.stack, Frame(step.script, inner.flow.first)))
    run.renew()
    run.start_passing(step.script)
    return False


def _arrive_end(run: Run, step: End) -> bool:
    if len(run.state.stack) > 1:
        run.move(END)
        return False
    end(run, run.filled(step.text))
    return True


_ARRIVE: Final[Mapping[type, Callable[[Run, Any], bool]]] = {
    Say: _arrive_say, Ask: _arrive_ask, Choose: _arrive_ask, Branch: _arrive_branch, Do: _arrive_do, SumUp: _arrive_sum,
    Confirm: arrive_at_confirming, EachRecord: arrive_at_record, Wait: _arrive_wait, HandOver: _arrive_hand,
    GoTo: _arrive_goto, End: _arrive_end,
}  # fmt: skip
