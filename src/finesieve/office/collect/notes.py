"""What the Margin says beside a rehearsed question: shown or not and why, checks, what would be stored."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from finesieve.core.fields.definition import show_value
from finesieve.core.forms.outcome import Filling, QuestionOutcome, SectionOutcome
from finesieve.core.forms.prepare import CompiledQuestion, CompiledSection, Rule
from finesieve.core.forms.tracing import Reason, reasons
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import plain_number
from finesieve.office.collect.typed import say_condition
from finesieve.services.forms.rehearsing import Rehearsal

__all__ = ["Note", "NoteReason", "question_notes", "section_note"]

Verdict = Literal["passes", "caught", "cant_tell"]


@dataclass(frozen=True, slots=True)
class NoteReason:
    """A condition in words, its verdict, and what it read: `Watering is By hand`."""

    words: str
    verdict: Verdict
    read: str


@dataclass(frozen=True, slots=True)
class Note:
    """One line: a verdict, the words, and the conditions that it rests on."""

    verdict: Verdict
    words: str
    reasons: tuple[NoteReason, ...] = ()
    wrong: bool = False
    ending: str = ""


def verdict_of(value: bool | None) -> Verdict:
    """The verdict that a truth value is."""
    return "passes" if value is True else "caught" if value is False else "cant_tell"


def _compiled(rehearsal: Rehearsal, section: SectionOutcome) -> CompiledSection:
    return next(one for one in rehearsal.prepared.compiled.sections if one.section.id == section.section.id)


def _question(section: CompiledSection, one: QuestionOutcome) -> CompiledQuestion:
    return next(item for item in section.items if isinstance(item, CompiledQuestion) and item.id == one.question.id)


def section_note(catalogue: Catalogue, rehearsal: Rehearsal, section: SectionOutcome) -> Note | None:
    """Why a section with a rule shows, or does not."""
    compiled = _compiled(rehearsal, section)
    if compiled.show is None:
        return None
    words = "The section shows, because" if section.verdict is True else "The section is left out, because"
    return Note(
        verdict_of(section.verdict), words, _reasons(catalogue, compiled.show, rehearsal.outcome.row, rehearsal)
    )


def question_notes(
    catalogue: Catalogue, rehearsal: Rehearsal, section: SectionOutcome, filling: Filling, one: QuestionOutcome
) -> tuple[Note, ...]:
    """All that is said beside one question."""
    compiled = _question(_compiled(rehearsal, section), one)
    return (
        *_shown(catalogue, rehearsal, compiled, filling, one),
        *_judged(catalogue, rehearsal, compiled, filling, one),
        *_kept(one),
    )


def _shown(
    catalogue: Catalogue, rehearsal: Rehearsal, compiled: CompiledQuestion, filling: Filling, one: QuestionOutcome
) -> Iterator[Note]:
    if one.because == "section":
        yield Note(verdict_of(one.verdict), "Not asked: its section is left out.")
    elif one.because == "known":
        yield Note("caught", f"Not asked: it is known already, {one.field.show(one.stored)}.")
    elif one.because == "lists":
        names = ", ".join(known.name for known in catalogue.lists if known.id in one.field.settings.lists)
        yield Note("caught", f"Not asked: it is kept only of people on {names}.")
    elif one.because == "locked":
        yield Note("caught", "Not asked: they may not change it themselves.")
    elif one.because == "country":
        yield Note("caught", "Not asked: the country that is answered has none.")
    elif one.because == "hidden":
        yield Note("passes", "Hidden: carries its value.")
    if compiled.show is None or one.because == "section":
        return
    found = _reasons(catalogue, compiled.show, filling.row, rehearsal)
    if one.because == "rule":
        ending = "" if one.raw == "" else " What was typed is not stored."
        yield Note(verdict_of(one.verdict), f"Not asked{', because' if found else '.'}", found, ending=ending)
    elif one.verdict is True:
        yield Note("passes", "Shows, because", found)


def _judged(
    catalogue: Catalogue, rehearsal: Rehearsal, compiled: CompiledQuestion, filling: Filling, one: QuestionOutcome
) -> Iterator[Note]:
    if one.verdict is not True:
        return
    if one.tidied:
        yield Note("passes", f"Tidied to “{one.raw}”.")
    if one.trouble in ("missing", "unreadable", "taken"):
        yield Note("caught", one.message, wrong=one.trouble != "missing")
    if compiled.required is not None and one.field.stores:
        words = "Required, because" if one.required else "Optional, because"
        rows = _reasons(catalogue, compiled.required, filling.row, rehearsal)
        yield Note(verdict_of(one.required), words, rows)
    for place, check in enumerate(one.checks):
        rule = compiled.checks[place].rule if place < len(compiled.checks) else None
        said = rehearsal.say(check.message)
        if check.verdict is False:
            yield Note("caught", said, _reasons(catalogue, rule, filling.row, rehearsal), wrong=True)
        elif rule is not None:
            yield Note(verdict_of(check.verdict), "Check:", _reasons(catalogue, rule, filling.row, rehearsal))
        elif check.check.kind == "same":
            yield Note(verdict_of(check.verdict), "The same as the other answer.")


def _kept(one: QuestionOutcome) -> Iterator[Note]:
    for charge in one.charges:
        yield Note("passes", f"Adds {charge.label}: {plain_number(charge.amount)}.")
    if one.verdict is True and not one.trouble and one.value is not None and one.field.stores:
        shown = "a hash of it" if one.field.type.kind == "secret" else one.field.show(one.value)
        before = "" if one.stored is None else f", until now {one.field.show(one.stored)}"
        same = one.stored == one.value
        yield Note("passes", f"Stays {shown}." if same else f"Would be stored: {shown}{before}.")


def _reasons(catalogue: Catalogue, rule: Rule | None, row: object, rehearsal: Rehearsal) -> tuple[NoteReason, ...]:
    if rule is None:
        return ()
    found = reasons(rule, row, rehearsal.moment)  # type: ignore[arg-type]  # the row of a filling
    return tuple(_said(catalogue, reason, rehearsal) for reason in found)


def _said(catalogue: Catalogue, reason: Reason, rehearsal: Rehearsal) -> NoteReason:
    read = []
    for key, type_, value in reason.read:
        shown = show_value(type_, value, catalogue.manner) if value not in (None, ()) else "blank"
        read.append("only editors see it" if key in rehearsal.unseen else shown)
    return NoteReason(say_condition(catalogue, reason.text), verdict_of(reason.verdict), ", ".join(read))
