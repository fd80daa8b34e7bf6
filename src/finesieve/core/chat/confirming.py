"""Confirming who somebody is: by a code that is sent to them, or by a personal link; and what they said before that.

What is looked up, sent and compared is done outside; the machine only hears whether it was right. Nothing that it says
tells whether an address is known.
"""

from collections.abc import Mapping
from typing import Final

from finesieve.core.chat.asking import DRAFTED, STORED, ask_again
from finesieve.core.chat.journal import SET, Entry, fold
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import Confirm
from finesieve.core.chat.turn import Identity, Message
from finesieve.core.fields.encoding import Json

__all__ = ["arrive_at_confirming", "ask_conflicts", "choose_between", "take_code", "take_email"]

_ADDRESS: Final = "email"


def arrive_at_confirming(run: Run, step: Confirm) -> bool:
    """Ask who they are; whose identity is confirmed already goes on. Tells whether it waits."""
    if run.world.confirmed:
        run.note("It is known who they are.")
        run.move(run.script.flow.leads(step.id, step.to))
        return False
    said = run.around.get(f"form.{_ADDRESS}")
    if isinstance(said, str) and said:
        _send(run, said)
        return True
    ask_again(run)
    return True


def _send(run: Run, email: str) -> None:
    run.code_to = email
    run.change(sub={"kind": "code"}, tries=0)
    ask_again(run)


def take_email(run: Run, said: str) -> str:
    """Take the address that a code is sent to; gives what is wrong with it, "" for nothing."""
    field = run.script.catalogue.by_key.get(_ADDRESS)
    try:
        email = field.parse(said) if field is not None else None
    except ValueError as why:
        return str(why.args[0]) if why.args else "I did not understand that."
    if not isinstance(email, str):
        return "I did not understand that."
    run.understood = email
    _send(run, email)
    return ""


def take_code(run: Run, step: Confirm, identity: Identity) -> bool:
    """Take a code that was looked at: right, or wrong. Tells whether it was right."""
    if identity != "right":
        return False
    run.understood = "the right code"
    run.messages.append(Message(run.say("Thank you, that is you."), "noted"))
    run.move(run.script.flow.leads(step.id, step.to))
    ask_conflicts(run)
    return True


def ask_conflicts(run: Run) -> bool:
    """Ask first which holds, where they said something else than is stored of them. Tells whether it does."""
    stored, fields = run.world.situation.stored, run.script.catalogue.by_key
    found = []
    for key, (how, data) in fold(run.state.journal[run.state.committed :]).person.items():
        field = fields.get(key)
        if field is None or how != SET or stored.get(key) is None or _drafted(run, key, data) == stored[key]:
            continue
        if (field.about, key) not in run.script.catalogue.not_for_the_person:
            found.append(key)
    if found:
        run.change(sub={"kind": "conflict", "keys": found, "around": dict(run.state.sub)})
        ask_again(run)
    return bool(found)


def _drafted(run: Run, key: str, data: Json) -> object:
    try:
        return run.script.catalogue.by_key[key].from_kept(data)
    except ValueError:
        return None


def choose_between(run: Run, offer: str) -> None:
    """Take what holds: what they said now, or what is stored; then the next one, or on."""
    keys, around = list(run.state.sub["keys"]), run.state.sub["around"]
    key = keys.pop(0)
    if offer == STORED:
        amounts: Mapping[str, tuple[str, Json]] = {key: (SET, run.stored_data(key))}
        run.keep(Entry("done", run.state.stack[-1].visit, run.state.stack, person=amounts))
        run.renew()
    else:
        assert offer == DRAFTED
    run.change(sub={"kind": "conflict", "keys": keys, "around": around} if keys else around)
    if keys:
        ask_again(run)
