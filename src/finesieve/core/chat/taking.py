"""Taking a reply, in the order of trying."""

from collections.abc import Callable, Mapping
from typing import Any, Final

from finesieve.core.chat.answering import problem_of, put_answer
from finesieve.core.chat.asking import AGAIN, DRAFTED, ENOUGH, STORED, ask_again
from finesieve.core.chat.confirming import choose_between, take_code, take_email
from finesieve.core.chat.each_record import choose_record, see_to_another
from finesieve.core.chat.given import take_given
from finesieve.core.chat.lines import go_on, is_filled
from finesieve.core.chat.prepare import Subject
from finesieve.core.chat.replies import (
    Offer,
    Several,
    by_name,
    by_number,
    near_names,
    read_several,
    read_value,
    typed_so,
)
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import (
    Ask,
    Choose,
    Confirm,
    EachRecord,
    Wait,
)
from finesieve.core.chat.steering import accept_sum, begin_fix, leave_wait, steer
from finesieve.core.chat.turn import Identity, Message, Reply
from finesieve.core.chat.words import Steering, steering_word
from finesieve.core.phrases import phrase
from finesieve.core.values import Value

__all__ = ["take"]

_FREE: Final = ("short_text", "long_text", "text_list")
"""Types of which a word that steers could be the answer."""
_NUMBERED: Final = ("sum", "which", "still", "word", "another", "conflict")
"""What is asked within a line of which the replies have numbers."""
_UNREADABLE: Final = "I did not understand that."


def take(run: Run, reply: Reply, word: Steering | None) -> None:
    """Take what somebody sent, in the order of trying."""
    step = run.step
    if step is None:
        go_on(run)
        return
    if isinstance(step, Wait):
        if is_filled(run, step):
            run.understood = "kept"
            leave_wait(run, step)
            return
        run.change(since=run.moment.now.isoformat())  # a reply stops the clock; it begins anew
    subject = run.script.subject_of(step) if isinstance(step, Ask | Choose) else None
    ask_again(run, quietly=True)
    if reply.given is not None:
        if take_given(run, reply.given):
            go_on(run)
    elif reply.button:
        _press(run, step, subject, reply.button)
    elif reply.text.strip():
        _typed(run, step, subject, reply.text.strip(), word, reply.identity)
    else:
        _mismatch(run, step, _UNREADABLE)


def _press(run: Run, step: Any, subject: Subject | None, button: str) -> None:
    """One of the buttons that were offered was pressed, or one of an earlier question."""
    found = next((one for one in run.offers if _is_pressed(run, one, button)), None)
    if found is not None and found.kind == "apart":
        run.understood = run.quiet = "It is given on a page of its own."
    elif found is not None and found.kind == "reply":
        _chosen(run, step, subject, found, found.label)
    else:
        run.understood = "a reply of an earlier question"
        ask_again(run)


def _typed(run: Run, step: Any, subject: Subject | None, said: str, word: Steering | None, identity: Identity) -> None:
    """Something was typed: the name of an offer or its number, a word that steers, or an answer to be read."""
    found = by_name(said, tuple(one for one in run.offers if one.kind == "reply"))
    numbered = by_number(said, run.offers) if _numbered(run, step, subject) else None
    if found is None and numbered is not None and not _is_another(run, subject, said, numbered):
        found = numbered
    if found is not None:
        _chosen(run, step, subject, found, said)
        return
    if word in ("back", "start_over", "person"):
        _word(run, step, subject, word, said)
    elif _is_skipped(run, step, said):
        _skip(run, step, subject)
        _go_on_if_moved(run)
    elif isinstance(step, Confirm) and run.state.sub.get("kind") != "conflict":
        _confirm(run, step, said, identity)
    elif isinstance(step, Ask) and not run.state.sub.get("kind") and (fields := run.script.page_fields(step)):
        run.hush = any(one.type.kind == "secret" for one in fields)
        _mismatch(run, step, "Please use the link for that.")
    else:
        _read(run, step, subject, said, numbered)


def _confirm(run: Run, step: Confirm, said: str, identity: Identity) -> None:
    """An address to send a code to, or the code."""
    if run.state.sub.get("kind") != "code":
        problem = take_email(run, said)
        if problem:
            _mismatch(run, step, problem)
    elif not take_code(run, step, identity):
        _mismatch(run, step, "That is not the code.")
    elif run.state.sub.get("kind") != "conflict":
        go_on(run)


def _is_skipped(run: Run, step: Any, said: str) -> bool:
    """Whether a word passes over what may be skipped."""
    if isinstance(step, Confirm) and run.state.sub.get("kind") == "code":
        return steering_word(said, run.state.language) == "skip"
    may_be = isinstance(step, Ask) and step.optional and run.state.sub.get("kind") not in ("sum", "which")
    return may_be and steering_word(said, run.state.language) == "skip"


def _is_pressed(run: Run, one: Offer, button: str) -> bool:
    """Whether a button is this offer, of the question that is being asked and not of an earlier one."""
    visit, at, rest = button.partition("@")
    return one.id == rest and visit == str(run.state.stack[-1].visit) if at else one.id == button


def _numbered(run: Run, step: Any, subject: Subject | None) -> bool:
    """Whether a number means one of the offers."""
    kind = subject.field.type.kind if subject is not None else ""
    if isinstance(step, Choose | EachRecord) or run.state.sub.get("kind") in _NUMBERED:
        return True
    return kind in ("choice", "yes_no") and bool(run.offers)


def _is_another(run: Run, subject: Subject | None, said: str, numbered: Offer) -> bool:
    """Whether a number is a value as well, and another than the offer of that number."""
    if subject is None or subject.field.type.kind not in ("number", "money") or run.state.sub:
        return False
    try:
        value = subject.field.parse(said)
        return value != subject.field.parse(numbered.raw)
    except ValueError:
        return False


def _word(run: Run, step: Any, subject: Subject | None, word: Steering, said: str) -> None:
    free = subject is not None and subject.field.type_key in _FREE and isinstance(step, Ask)
    if free and not run.state.sub and not subject.field.options:  # type: ignore[union-attr]  # free tells
        run.change(sub={"kind": "word", "word": word, "text": said})
        run.understood = "a word that steers, or an answer"
        ask_again(run)
        return
    steer(run, word)


def _chosen(run: Run, step: Any, subject: Subject | None, offer: Offer, said: str) -> None:
    """One of the offers was chosen."""
    run.understood = offer.label
    kind = run.state.sub.get("kind", "")
    if offer.id in _SPECIAL:
        _SPECIAL[offer.id](run, step, subject, said)
    elif offer.id.startswith("fix:"):
        begin_fix(run, int(offer.id[4:]))
    elif offer.id.startswith("r:"):
        choose_record(run, step, offer, said)
        go_on(run)
    elif offer.id.startswith("w:"):
        run.change(sub=run.state.sub.get("around", {}))
        _take_raw(run, step, subject, offer.raw, offer.label, exact=True)
    elif subject is not None and subject.field.type.kind == "choices" and not kind.startswith("f_"):
        _toggle(run, offer)
    elif subject is None:
        put_answer(run, step, None, None, said, offer.label, reply=offer.id)
        go_on(run)
    else:
        _take_raw(run, step, subject, offer.raw, offer.label, exact=True, reply=offer.id)


def _go_on_if_moved(run: Run) -> None:
    if run.state.mode == "script" and (not run.state.stack or not run.state.stack[-1].visit):
        go_on(run)


def _settle(run: Run, which: str) -> None:
    """What holds is chosen; once all of that is settled, it goes on where it was."""
    choose_between(run, which)
    if run.state.sub.get("kind") == "conflict":
        return
    if run.state.stack and run.state.stack[-1].visit:
        ask_again(run)
    else:
        go_on(run)


def _another_record(run: Run, step: EachRecord, *, wanted: bool) -> None:
    if not see_to_another(run, step, wanted=wanted):
        go_on(run)


def _ask_anew(run: Run) -> None:
    run.change(sub={"kind": "anew"})
    ask_again(run)


def _skip(run: Run, step: Any, subject: Subject | None) -> None:
    put_answer(run, step, subject, None, "", "", reply="skip")


def _toggle(run: Run, offer: Offer) -> None:
    chosen = list(run.state.sub.get("chosen", ()))
    if offer.raw in chosen:
        chosen.remove(offer.raw)
    else:
        chosen.append(offer.raw)
    run.change(sub={**run.state.sub, "chosen": chosen})
    ask_again(run, quietly=True)
    names = ", ".join(one.label for one in run.offers if one.chosen)
    text = phrase("So far: {chosen}.", chosen=names) if names else "Nothing chosen yet."
    run.messages.append(Message(run.say(text), "noted"))


def _finish_several(run: Run, step: Any, subject: Subject | None) -> None:
    assert subject is not None
    _take_raw(run, step, subject, "\n".join(run.state.sub.get("chosen", ())), "", exact=True)


def _read(run: Run, step: Any, subject: Subject | None, said: str, numbered: Offer | None) -> None:
    """Read a reply that is none of the offers by name."""
    if run.state.sub.get("kind") == "word":
        run.change(sub={})
    if subject is None or run.state.sub.get("kind") in ("sum", "which"):
        _near(run, step, subject, said, _UNREADABLE)
        return
    field = subject.field
    if field.type.kind == "choices":
        try:
            chosen = read_several(said, [one for one in run.offers if one.id.startswith(("o:", "b"))])
        except ValueError as why:
            _mismatch(run, step, why.args[0])
            return
        _take_raw(run, step, subject, "\n".join(one.raw for one in chosen), said, exact=False)
        return
    if field.options:
        _near(run, step, subject, said, "Choose one of the options offered.")
        return
    try:
        found = read_value(field, said, run.moment.today)
    except ValueError as why:
        _near(run, step, subject, said, why.args[0] if why.args else _UNREADABLE)
        return
    if isinstance(found, Several):
        _which(run, found.ways)
    elif numbered is not None:
        _which(run, ((numbered.label, numbered.raw), (field.show(found.value), said)))
    else:
        _accept(run, step, subject, found.value, said, exact=typed_so(field, said, found.value))


def _which(run: Run, ways: tuple[tuple[str, str], ...]) -> None:
    run.understood = "one of several"
    run.change(sub={"kind": "which", "ways": [list(one) for one in ways], "around": dict(run.state.sub)})
    ask_again(run)


def _near(run: Run, step: Any, subject: Subject | None, said: str, problem: str) -> None:
    """Look for a name that is nearly this; else it does not fit."""
    exact_only = subject is not None and subject.field.type.kind in ("yes_no", "number", "money")
    named = [one for one in run.offers if one.id.startswith(("o:", "b", "r:"))]
    near = near_names(said, named) if not exact_only or isinstance(step, Choose) else ()
    if len(near) == 1:
        run.messages.append(Message(run.say(phrase("I take that as {value}.", value=near[0].label)), "noted"))
        _chosen(run, step, subject, near[0], said)
    elif near:
        _which(run, tuple((one.label, one.raw or one.id) for one in near))
    else:
        _mismatch(run, step, problem)


def _take_raw(
    run: Run, step: Any, subject: Subject | None, raw: str, said: str, *, exact: bool, reply: str = ""
) -> None:
    """Take a value as it would be typed."""
    if subject is None:
        put_answer(run, step, None, None, said, said, reply=raw or reply)
        _go_on_if_moved(run)
        return
    try:
        value = subject.field.parse(raw, None, run.moment.today)
        subject.field.refuse_retired(value, None)
    except ValueError as why:
        _mismatch(run, step, why.args[0] if why.args else _UNREADABLE)
        return
    _accept(run, step, subject, value, said, exact=exact, reply=reply)


def _accept(run: Run, step: Any, subject: Subject, value: Value, said: str, *, exact: bool, reply: str = "") -> None:
    field = subject.field
    if value is None and not getattr(step, "optional", False):
        _mismatch(run, step, "Please answer this.")
        return
    problem, own = problem_of(run, step, subject, value)
    if problem:
        _mismatch(run, step, problem, own=own)
        return
    shown = field.show(value)
    run.understood = shown
    if not exact and shown:
        run.messages.append(Message(run.say(phrase("I have noted {value}.", value=field.say(value))), "noted"))
    put_answer(run, step, subject, value, "" if field.type.kind == "secret" else said, shown, reply=reply)
    _go_on_if_moved(run)


def _mismatch(run: Run, step: Any, problem: str, *, own: bool = False) -> None:
    """A reply that does not fit: a try, and at the limit what the line says. `own` tells that the house worded it."""
    run.understood = run.understood or "not understood"
    tries = run.state.tries + 1
    run.change(tries=tries)
    most = getattr(step, "tries", 3)
    if tries < most:
        retry = run.filled(getattr(step, "retry", ""))
        text = retry if retry and not own else run.say(problem)
        run.messages.append(Message(text, "problem", run.state.place[1]))
        ask_again(run)
        return
    then = getattr(step, "then", "hand")
    run.note(f"{tries} replies did not fit.")
    if then == "skip":
        run.move(run.script.flow.leads(step.id, getattr(step, "to", "")))
        go_on(run)
    elif then.startswith("l"):
        run.move(run.script.flow.leads(step.id, then))
        go_on(run)
    else:
        run.messages.append(Message(run.say("One of us will take it from here."), "plain"))
        run.hand_over("Several replies did not fit.")


def _keep_known(run: Run, step: Any, subject: Subject | None, said: str) -> None:
    put_answer(run, step, subject, None, said, "", reply="known")
    _go_on_if_moved(run)


def _pass_over(run: Run, step: Any, subject: Subject | None, _said: str) -> None:
    _skip(run, step, subject)
    _go_on_if_moved(run)


def _have_finished(run: Run, step: Any, subject: Subject | None, _said: str) -> None:
    _finish_several(run, step, subject)
    _go_on_if_moved(run)


_SPECIAL: Final[Mapping[str, Callable[[Run, Any, Subject | None, str], None]]] = {
    "keep": _keep_known,
    "skip": _pass_over,
    "done": _have_finished,
    "other": lambda run, _step, _subject, _said: _ask_anew(run),
    "use": lambda run, step, subject, _said: _read(run, step, subject, run.state.sub["text"], None),
    "steer": lambda run, _step, _subject, _said: steer(run, run.state.sub["word"]),
    "right": lambda run, _step, _subject, _said: accept_sum(run),
    DRAFTED: lambda run, _step, _subject, _said: _settle(run, DRAFTED),
    STORED: lambda run, _step, _subject, _said: _settle(run, STORED),
    AGAIN: lambda run, step, _subject, _said: _another_record(run, step, wanted=True),
    ENOUGH: lambda run, step, _subject, _said: _another_record(run, step, wanted=False),
}
"""What comes of the offers that are no answer, by their id."""
