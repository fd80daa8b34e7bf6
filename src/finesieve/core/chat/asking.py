"""What is asked at a line, and the replies that are offered."""

from collections.abc import Callable, Mapping
from typing import Any, Final

from finesieve.core.chat.prepare import Subject
from finesieve.core.chat.records import title_of
from finesieve.core.chat.replies import (
    Offer,
)
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import (
    ADDRESS_NAMES,
    Ask,
    Choose,
    Confirm,
    EachRecord,
    Wait,
)
from finesieve.core.chat.turn import Message
from finesieve.core.chat.words import STEERED
from finesieve.core.chat.world import value_of
from finesieve.core.fields.definition import Field
from finesieve.core.phrases import phrase
from finesieve.core.values import fold as fold_text

__all__ = ["AGAIN", "DRAFTED", "ENOUGH", "NEW_RECORD", "PAGE", "STORED", "ask_again", "offered"]

NEW_RECORD: Final = "r:new"
"""The id of the offer of a record that is not there yet."""
PAGE: Final = "apart"
"""The id of the offer of a page where something is given that cannot be typed."""
_ON_PAGE: Final = {"file": "Send a file", "picture": "Send a picture", "secret": "Write it where nobody else reads it"}
_WRITE: Final = "Write it on a page"
DRAFTED: Final = "drafted"
STORED: Final = "stored"
"""The ids of the replies to which holds: what was said now, or what is stored."""
AGAIN: Final = "again"
ENOUGH: Final = "enough"
"""The ids of the replies to whether there is another record."""
_MOST_OFFERED: Final = 100


def offered(run: Run, step: Any, subject: Subject | None) -> tuple[Offer, ...]:
    """The replies that a line offers by itself."""
    if isinstance(step, EachRecord):
        return _records_offered(run, step)
    known = run.script.steady_offers.get((step.id, run.state.language)) if step is not None else None
    if known is not None and "chosen" not in run.state.sub:
        return known
    found = _worked_out(run, step, subject)
    if _is_steady(run, step):
        run.script.steady_offers[step.id, run.state.language] = found
    return found


def _is_steady(run: Run, step: Any) -> bool:
    """Whether a line offers the same to everybody at any time, so that it need not be worked out at each reply."""
    texts = [text for one in getattr(step, "replies", ()) for text in (one.label, one.target)]
    return step is not None and "chosen" not in run.state.sub and not any("{" in run.say(one) for one in texts)


def _worked_out(run: Run, step: Any, subject: Subject | None) -> tuple[Offer, ...]:
    if isinstance(step, Choose):
        return tuple(found for one in step.replies if (found := _prepared(run, one, subject)) is not None)
    if isinstance(step, Ask) and (fields := run.script.page_fields(step)):
        page = Offer(PAGE, run.say(_ON_PAGE.get(fields[0].type_key, _WRITE)), kind="apart")
        return (page, *((Offer("skip", run.say("Skip")),) if step.optional else ()))
    if subject is None:
        return ()
    field = subject.field
    chosen = set(run.state.sub.get("chosen", ()))
    options = [
        Offer(f"o:{one.stored_value}", run.say(one.label), one.stored_value, chosen=one.stored_value in chosen)
        for one in (field.offered if len(field.offered) <= 40 else ())
    ]
    if field.type_key == "yes_no":
        options = [Offer("o:yes", run.say("Yes"), "yes"), Offer("o:no", run.say("No"), "no")]
    if field.type_key == "agreement":
        options = [Offer("o:yes", run.say("I agree"), "yes")]
    if field.type.kind == "choices":
        options.append(Offer("done", run.say("Done")))
    if isinstance(step, Ask) and step.optional:
        options.append(Offer("skip", run.say("Skip")))
    return tuple(options)


def _records_offered(run: Run, step: EachRecord) -> tuple[Offer, ...]:
    """The records of the person by their title, and a new one."""
    collection = run.script.collection_of(step)
    script = run.script.within(collection)
    names = list(run.records(collection))[:_MOST_OFFERED] if step.which == "one" and collection else ()
    found = [Offer(f"r:{name}", title_of(script, run.member(name), name)) for name in names]
    if step.which == "new" or step.or_new:
        found.append(Offer(NEW_RECORD, run.say("A new one")))
    return tuple(found)


def _prepared(run: Run, one: Any, subject: Subject | None) -> Offer | None:
    """A prepared reply; None where what it sets is retired, or where it would lead to nothing."""
    if one.kind != "reply":
        target = run.filled(one.target).strip()
        return Offer(one.id, run.filled(one.label), "", one.kind, target) if target else None
    raw = one.value or one.label
    if subject is not None and subject.field.options:
        meant = {fold_text(option.label): option.stored_value for option in subject.field.offered}
        stored = {option.stored_value for option in subject.field.offered}
        raw = raw if raw in stored else meant.get(fold_text(raw), "")
        if not raw:
            return None
    return Offer(one.id, run.filled(one.label), raw)


def ask_again(run: Run, *, quietly: bool = False) -> None:
    """Offer the replies of what is being asked, and, unless that was said already, say it."""
    step, kind = run.step, run.state.sub.get("kind", "")
    subject = run.script.subject_of(step) if isinstance(step, Ask | Choose) else None
    run.offers = _OFFERS[kind](run) if kind in _OFFERS else offered(run, step, subject)
    run.expects = dict(_CHOICE) if kind in ("sum", "conflict") else _expected(subject, step)
    if quietly:
        return
    lines = tuple((run.say(one.label), one.shown) for one in run.answered()) if kind == "sum" else ()
    text = _words(run, step, subject, kind)
    if text or lines:
        run.messages.append(Message(text, "sum" if lines else "ask", run.state.place[1], lines=lines))


_WITHIN: Final = {
    "which": "Which of these do you mean?", "word": "Is that your answer, or shall I do it?",
    "code": "If we know that address, a code is on its way there. Write it here.",
}  # fmt: skip
"""What is said where something else is asked than the line itself does."""


def _words(run: Run, step: Any, subject: Subject | None, kind: str) -> str:
    """What is asked, in words."""
    if kind in _WITHIN:
        return run.say(_WITHIN[kind])
    if kind == "another":
        return run.filled(step.another_text) or run.say("Another one?")
    if kind == "conflict":
        label = run.say(run.script.catalogue.by_key[run.state.sub["keys"][0]].label)
        return run.say(phrase("{what}: which holds, what you said now, or what we have?", what=label))
    text = run.filled(getattr(step, "text", ""))
    if kind == "still" and subject is not None:
        shown = subject.field.say(value_of(subject, run.row, run.moment))
        still = run.say(phrase("Still {value}?", value=shown))
        return f"{text} {still}" if text else f"{run.say(subject.field.label)}: {still}"
    return text or _usually(run, step, subject, kind)


def _usually(run: Run, step: Any, subject: Subject | None, kind: str) -> str:
    """What is asked where the line says nothing itself."""
    if kind == "sum":
        return run.say("Is this right?")
    if isinstance(step, Confirm):
        return run.say("Which email are you known by? We send a code there.")
    if isinstance(step, EachRecord):
        return run.say("Which one?")
    if isinstance(step, Ask) and step.address:
        return run.say(ADDRESS_NAMES[step.address]) + "?"
    return run.say(subject.field.label) + "?" if subject is not None else ""


def _offers_of_sum(run: Run) -> tuple[Offer, ...]:
    fixes = (
        Offer(f"fix:{one.place}", run.say(phrase("Change {what}", what=run.say(one.label)))) for one in run.answered()
    )
    return (Offer("right", run.say("That is right")), *fixes)


def _offers_of_conflict(run: Run) -> tuple[Offer, ...]:
    key = run.state.sub["keys"][0]
    field = run.script.catalogue.by_key[key]
    said, stored = run.around.get(f"form.{key}"), run.world.situation.stored.get(key)
    return (Offer(DRAFTED, field.say(said) or run.say("blank")), Offer(STORED, field.say(stored)))


_CHOICE: Final = {"kind": "choice", "field": "", "unit": "", "many": False, "optional": False}
_OFFERS: Final[Mapping[str, Callable[[Run], tuple[Offer, ...]]]] = {
    "code": lambda run: (Offer("skip", run.say("Go on without")),),
    "conflict": _offers_of_conflict,
    "another": lambda run: (Offer(AGAIN, run.say("Yes")), Offer(ENOUGH, run.say("No"))),
    "still": lambda run: (Offer("keep", run.say("Yes")), Offer("other", run.say("No"))),
    "which": lambda run: tuple(
        Offer(f"w:{place}", label, raw) for place, (label, raw) in enumerate(run.state.sub["ways"])
    ),
    "word": lambda run: (
        Offer("use", run.say("Use as my answer")), Offer("steer", run.say(STEERED.get(run.state.sub["word"], "")))
    ),
    "sum": _offers_of_sum,
}  # fmt: skip
"""What is offered where something else is asked than the line itself does."""


def _expected(subject: Subject | None, step: Any) -> dict[str, Any] | None:
    """What kind of reply is waited for."""
    if isinstance(step, Wait):
        return None
    field: Field | None = subject.field if subject is not None else None
    if isinstance(step, Confirm):
        return {**_CHOICE, "kind": "email"}
    if isinstance(step, Ask) and step.address:
        return {**_CHOICE, "kind": "address", "optional": step.optional}
    return {
        "kind": field.type_key if field is not None else "choice",
        "field": field.key if field is not None else "",
        "unit": field.unit if field is not None else "",
        "many": field is not None and field.type.kind == "choices",
        "optional": bool(getattr(step, "optional", False)),
    }
