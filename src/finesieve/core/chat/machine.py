"""The machine that runs a conversation: from a state and a reply to the next one, what is said, what is caused."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final, Literal

from finesieve.core.chat.asking import ask_again
from finesieve.core.chat.confirming import ask_conflicts
from finesieve.core.chat.journal import SET, Entry, Frame, State
from finesieve.core.chat.lines import go_on, is_filled
from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import Wait
from finesieve.core.chat.steering import closed, returned_to, started_again, stopped, timed
from finesieve.core.chat.taking import take
from finesieve.core.chat.turn import Message, Reply, Turn
from finesieve.core.chat.words import steering_word
from finesieve.core.chat.world import TalkWorld
from finesieve.core.fields.encoding import Json

__all__ = ["Scripts", "advance", "begin", "close", "has_come", "present", "result_of", "with_conflicts"]

Scripts = Mapping[str, PreparedScript]
_KEPT: Final = 8
"""How many of the last replies are remembered with what they brought."""


def begin(
    scripts: Scripts,
    slug: str,
    world: TalkWorld,
    *,
    versions: Mapping[str, int] | None = None,
    language: str = "en",
    channel: Literal["web", "text"] = "web",
    person_id: int = 0,
    seed: int = 0,
    at: str = "",
    known: Mapping[str, str] | None = None,
) -> Turn:
    """Begin a conversation at the first line of a script, or at the line `at`; with values, by field key, that the
    channel knows."""
    flow = scripts[slug].flow
    spoken = scripts[slug].script.languages
    state = State(
        slug, dict(versions or dict.fromkeys(scripts, 0)), (Frame(slug, at or flow.first),),
        language=language if language in spoken else spoken[0], channel=channel, person_id=person_id, seed=seed,
    )  # fmt: skip
    run = Run(scripts, world, state)
    run.start_passing(slug)
    if known:
        run.keep(Entry("done", 0, state.stack, person={key: (SET, value) for key, value in known.items()}))
    go_on(run)
    return run.turn()


def present(scripts: Scripts, world: TalkWorld, state: State) -> Turn:
    """What is being asked at the moment, without any change; for a page that is opened again."""
    run = Run(scripts, world, state)
    if state.mode == "script":
        ask_again(run, quietly=True)
    else:
        run.say_mode()
    return replace(run.turn(), state=state, messages=())


def advance(scripts: Scripts, world: TalkWorld, state: State, reply: Reply) -> Turn:
    """Take a reply. The same key again brings the same, and changes nothing.

    Afterwards the conversation waits: for a reply, for others, for a clerk; or it is over.
    """
    known: Any = next((result for key, result in state.results if key == reply.key), None)
    if known is not None:
        messages = tuple(Message(one["text"], one["kind"]) for one in known["messages"])
        before = present(scripts, world, state)
        return replace(before, messages=messages, repeated=True, understood=known["understood"])
    turn = _taken(scripts, world, state, reply)
    turn.state.results = (*turn.state.results, result_of(reply, turn))[-_KEPT:]
    return turn


def result_of(reply: Reply, turn: Turn) -> tuple[str, Json]:
    """What a reply brought, by its key, as it is remembered."""
    messages: Json = [{"text": one.text, "kind": one.kind} for one in turn.messages]
    return reply.key, {"understood": turn.understood, "messages": messages}


def with_conflicts(scripts: Scripts, world: TalkWorld, turn: Turn) -> Turn:
    """The same turn of somebody who has been confirmed only now: what they said otherwise than is stored is asked."""
    if turn.state.mode != "script":
        return turn
    run = Run(scripts, world, turn.state)
    if not ask_conflicts(run):
        return turn
    return replace(
        run.turn(), messages=(*turn.messages, *run.messages), effects=turn.effects, understood=turn.understood
    )


def has_come(scripts: Scripts, world: TalkWorld, state: State) -> bool:
    """Whether it waits for a field that is filled by now."""
    run = Run(scripts, world, state)
    return state.mode == "script" and isinstance(run.step, Wait) and is_filled(run, run.step)


def close(scripts: Scripts, world: TalkWorld, state: State) -> Turn:
    """End a conversation that has been silent for too long, and write what was answered."""
    return closed(Run(scripts, world, state))


def _taken(scripts: Scripts, world: TalkWorld, state: State, reply: Reply) -> Turn:
    run = Run(scripts, world, state)
    if reply.timer:
        return timed(run, reply.timer)
    if reply.step:
        return returned_to(run, reply.step)
    word = steering_word(reply.text, state.language) if reply.text else None
    if state.mode == "ended":
        if word == "start_over" or reply.button == "start_over":
            return replace(run.turn(), restarts=True, understood="start over")
        return run.plain("This conversation has ended. You can start a new one.", understood="after the end")
    if word == "start" and state.mode == "stopped":
        return started_again(run)
    if word == "stop" and state.channel == "text" and state.mode != "stopped":
        return stopped(run)
    if state.mode != "script":
        why = "A clerk has the conversation." if state.mode == "clerk" else "They want no messages."
        return replace(run.turn(), quiet=why, understood="kept")
    take(run, reply, word)
    return run.turn()
