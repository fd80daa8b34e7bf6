"""Going back, correcting, starting again; clocks, clerks, and those who want no messages."""

from dataclasses import replace

from finesieve.core.chat.asking import AGAIN, ENOUGH, ask_again
from finesieve.core.chat.effects import Effects
from finesieve.core.chat.journal import Frame, read_frames, write_frames
from finesieve.core.chat.lines import end, go_on, is_filled
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import (
    Wait,
)
from finesieve.core.chat.turn import Message, Turn
from finesieve.core.chat.words import Steering

__all__ = [
    "accept_sum",
    "begin_fix",
    "closed",
    "leave_wait",
    "returned_to",
    "started_again",
    "steer",
    "step_back",
    "stopped",
    "timed",
    "to_sum",
]


def steer(run: Run, word: Steering) -> None:
    run.understood = word.replace("_", " ")
    if word == "back":
        step_back(run)
    elif word == "person":
        run.messages.append(Message(run.say("One of us will take it from here."), "plain"))
        run.hand_over("They asked for a person.")
    else:
        run.restarts = True


def step_back(run: Run) -> None:
    """Take back the last answer that was given since the commit point."""
    if run.state.sub.get("kind") == "fix":
        to_sum(run)
        return
    journal = run.state.journal
    given = [
        place
        for place in range(run.state.committed, len(journal))
        if journal[place].kind == "answer" and journal[place].reply != "known"
    ]
    if not given:
        why = "There is nothing to go back to." if not run.state.committed else "What was written stays written."
        run.messages.append(Message(run.say(why), "problem"))
        ask_again(run)
        return
    entry = journal[given[-1]]
    sub = {"kind": "another"} if entry.reply in (AGAIN, ENOUGH) else {}
    run.change(journal=journal[: given[-1]], stack=entry.stack, sub=sub, tries=0, visits=entry.visit, reuse=())
    run.renew()
    ask_again(run)


def begin_fix(run: Run, place: int) -> None:
    """Ask again what was answered at a place of the journal."""
    entry = run.state.journal[place]
    sub = {"kind": "fix", "fix": place, "around": write_frames(run.state.stack)}
    run.change(stack=entry.stack, sub=sub, tries=0)
    run.renew()
    ask_again(run)


def to_sum(run: Run) -> None:
    stack = read_frames(run.state.sub["around"])
    run.change(stack=stack, sub={"kind": "sum"}, tries=0)
    run.renew()
    ask_again(run)


def accept_sum(run: Run) -> None:
    step = run.step
    run.commit()
    run.move(run.script.flow.leads(step.id, step.to))
    go_on(run)


def timed(run: Run, visit: int) -> Turn:
    """A wait is over: what it is for has come, or a clock that was set for its visit has run down.

    A clock of an earlier visit does nothing.
    """
    step = run.step
    if not isinstance(step, Wait) or run.state.mode != "script" or run.state.stack[-1].visit != visit:
        run.quiet = "That wait is over."
        return run.turn()
    leave_wait(run, step)
    return run.turn()


def leave_wait(run: Run, step: Wait) -> None:
    """Go on from a wait: where what it is for has come, as its line says; else as it says for too late."""
    if is_filled(run, step):
        run.note("What it waited for is there.")
        run.move(run.script.flow.leads(step.id, step.to))
    else:
        run.note("It has waited long enough.")
        run.move(run.script.flow.leads(step.id, step.late_to, "late"))
    go_on(run)


def closed(run: Run) -> Turn:
    """It has been silent for long enough: what was answered is written, and it is over."""
    end(run, "")
    return run.turn()


def returned_to(run: Run, step_id: str) -> Turn:
    """A clerk lets the script go on at a line."""
    if step_id not in run.scripts[run.state.script].flow.by_id:
        run.quiet = "There is no such line."
        return run.turn()
    run.change(mode="script", stack=(Frame(run.state.script, step_id),), sub={}, tries=0, reuse=())
    run.renew()
    go_on(run)
    return run.turn()


def stopped(run: Run) -> Turn:
    """They want no messages any more."""
    run.commit()
    assert run.effects is not None
    run.effects = replace(run.effects, consent=False)
    run.change(mode="stopped")
    return run.plain("You get no more messages from us here. Write START to get them again.", "stop")


def started_again(run: Run) -> Turn:
    """They want messages again; it goes on where it was."""
    run.effects = Effects(consent=True)
    run.change(mode="script" if run.state.stack else "ended")
    run.plain("You get our messages again.", "start")
    if run.state.stack and run.step is not None:
        ask_again(run)
    return run.turn()
