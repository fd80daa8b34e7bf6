"""A script as its page draws it: numbered lines, who speaks, replies indented, and where each leads."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise, takewhile
from typing import Any, Final

from finesieve.core.chat.flow import Flow
from finesieve.core.chat.reasoning import ScriptFinding
from finesieve.core.chat.script import (
    ADDRESS_NAMES,
    END,
    VERBS,
    Action,
    Ask,
    Branch,
    Choose,
    Confirm,
    Do,
    EachRecord,
    GoTo,
    HandOver,
    Say,
    Script,
    SumUp,
    Wait,
)
from finesieve.core.language.placeholders import expressions_in
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.checks import say_check
from finesieve.services.chat.scripts import ScriptView

__all__ = ["Piece", "PlayLine", "Row", "play_of", "threads_of"]

SPEAKERS: Final = {
    "say": "house", "ask": "house", "choose": "house", "sum_up": "house", "branch": "if", "record": "record",
    "confirm": "house", "do": "does", "wait": "waits", "hand_over": "clerk", "go_to": "goes", "end": "end",
}  # fmt: skip
"""Who is at the left of a line."""


_EXPECTED: Final = {
    "choice": "one of the options", "progress": "one of the options", "choices": "several of the options",
    "yes_no": "yes or no", "short_text": "a text", "long_text": "a text", "agreement": "yes, or not",
    "country": "one of the countries",
}  # fmt: skip
"""What kind of reply is expected, where the name of the type does not say it."""


_ABOUT: Final = {
    "one": "Which of their {records}?", "new": "About something new among their {records}:",
    "each": "One after the other of their {records}:",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of a text: plain, or a placeholder, with what it is."""

    text: str
    of: str = ""


@dataclass(frozen=True, slots=True)
class Row:
    """What stands under a line: a reply, a case of a branch, an action, or what kind of reply is expected."""

    kind: str
    pieces: tuple[Piece, ...]
    to: int = 0
    ends: bool = False
    note: str = ""


@dataclass(frozen=True, slots=True)
class PlayLine:
    """One line of the play."""

    id: str
    number: int
    depth: int
    kind: str
    speaker: str
    pieces: tuple[Piece, ...]
    rows: tuple[Row, ...]
    to: int
    ends: bool
    step: Any
    folds: int
    problems: tuple[str, ...]
    findings: tuple[ScriptFinding, ...]

    @property
    def options(self) -> str:
        """What its replies set, one a line, as the options of a choice are typed."""
        values = (one.value or one.label for one in getattr(self.step, "replies", ()) if one.kind == "reply")
        return "\n".join(dict.fromkeys(values))


def play_of(view: ScriptView) -> tuple[PlayLine, ...]:
    """The lines of a script in order."""
    return tuple(_Drawn(view).line(step) for step in view.prepared.flow.lines)


def pieces_of(text: str, catalogue: Catalogue, script: Script) -> tuple[Piece, ...]:
    """A text with its placeholders named as people know them."""
    found: list[Piece] = []
    rest = text
    labels = {one.key: one.label for one in (*catalogue.fields, *catalogue.fields_about("house"))}
    of_records = {one.key: one.label for known in catalogue.record_types for one in catalogue.fields_about(known.about)}
    labels = of_records | labels | {one.key: one.label for one in script.passing}
    for expression in expressions_in(text):
        before, _, rest = rest.partition("{" + expression + "}")
        if before:
            found.append(Piece(before))
        name, _, other = expression.strip().partition(" else ")
        label = labels.get(name.rpartition(".")[2], name)
        otherwise = f", else {other.strip(chr(34))}" if other else ""
        found.append(Piece(f"{label}{otherwise}", expression))
    if rest:
        found.append(Piece(rest))
    return tuple(found)


class _Drawn:
    def __init__(self, view: ScriptView) -> None:
        self.view, self.flow, self.script = view, view.prepared.flow, view.document
        self._here = view.prepared

    def _pieces(self, text: str) -> tuple[Piece, ...]:
        return pieces_of(text, self.view.catalogue, self.script)

    def line(self, step: Any) -> PlayLine:
        self._here = self.view.prepared.at(step.id)
        on = self.flow.leads(step.id, step.to) if getattr(step, "to", "") else ""
        return PlayLine(
            step.id, self.flow.numbers[step.id], self.flow.depth(step), step.kind, SPEAKERS[step.kind],
            self._pieces(self._said(step)), tuple(self._rows(step)), self.flow.numbers.get(on, 0), on == END, step,
            self._under(step), tuple(dict.fromkeys(one.message for one in self.view.problems if one.line == step.id)),
            tuple(one for one in self.view.findings if one.line == step.id),
        )  # fmt: skip

    def _under(self, step: Any) -> int:
        """How many lines stand under this one's replies or cases."""
        depth, number = self.flow.depth(step), self.flow.numbers[step.id]
        after = self.flow.lines[number:]
        return sum(1 for _ in takewhile(lambda one: self.flow.depth(one) > depth, after))

    def _said(self, step: Any) -> str:
        match step:
            case Say():
                return step.texts[0].text
            case Branch():
                return "It depends:"
            case EachRecord():
                return step.text or _ABOUT[step.which].format(records=self._records(step).lower())
            case Wait():
                return step.text or f"until {self._label(step.field_id, '') or 'the time is over'}"
            case GoTo():
                titles = dict(self.view.others)
                if step.script:
                    return f"through “{titles.get(step.script, step.script)}”, and back"
                return f"to line {self.flow.numbers.get(self.flow.leads(step.id, step.to), 'end')}"
            case HandOver():
                return step.text or "One of us will take it from here."
            case Confirm():
                return step.text or "Which email are you known by? We send a code there."
            case SumUp():
                return step.text or "Is this right?"
        return str(getattr(step, "text", "")) or {"end": "The conversation is over.", "do": ""}.get(step.kind, "…")

    def _label(self, field_id: int, passing: str) -> str:
        subject = self._here.subject(field_id, passing)
        return subject.field.label if subject is not None else ""

    def _records(self, step: EachRecord) -> str:
        link = self.view.catalogue.links.get(step.link_id)
        return link.back_name if link is not None else "records"

    def _of_record(self, step: EachRecord) -> Sequence[Row]:
        """What is chosen, the lines about it, and whether there is another."""
        known = {"one": "one of their {records}", "new": "a new one", "each": "each of their {records}, in turn"}
        words = known[step.which].format(records=self._records(step).lower())
        if step.which == "one" and step.or_new:
            words += ", or a new one"
        more = [Row("note", self._pieces(step.another_text or "Another one?"))] if step.another else []
        return [self._leads(step, step.inside, (Piece(words),), ""), *more]

    def _rows(self, step: Any) -> Sequence[Row]:
        match step:
            case Say():
                more = [
                    Row("other", self._pieces(one.text), note=f"{one.share} of {_shares(step)}")
                    for one in step.texts[1:]
                ]
                link = [Row("link", (Piece(step.link_label),), note=step.link_to)] if step.link_label else []
                return [*more, *link]
            case Ask():
                return [self._expected(step)]
            case Choose():
                label = self._label(step.field_id, step.passing)
                return [self._leads(step, one, (Piece(one.label),), label) for one in step.replies]
            case Branch():
                cases = [self._leads(step, one, (Piece(one.rule or "…", "rule"),), "") for one in step.cases]
                return [*cases, Row("else", (Piece("else"),), self._to(step.id, step.to, ""))]
            case EachRecord():
                return self._of_record(step)
            case Do():
                return [Row("action", self._action(one)) for one in step.actions]
            case Confirm():
                words = f"an email, then the code that is sent there · after {step.tries} tries goes on unconfirmed"
                return [Row("note", (Piece(words),))]
            case SumUp():
                return [Row("note", (Piece("any answer can be corrected here"),))]
            case HandOver():
                return [Row("note", (Piece(step.note),))] if step.note else []
        return []

    def _leads(self, step: Any, part: Any, pieces: tuple[Piece, ...], sets: str) -> Row:
        kind = getattr(part, "kind", "case")
        if kind in ("link", "call", "write"):
            return Row(kind, pieces, note=part.target)
        to = self.flow.leads(step.id, part.to, part.id)
        value = f" = {part.value}" if getattr(part, "value", "") else ""
        return Row(
            "reply" if kind == "reply" else "case", pieces, self.flow.numbers.get(to, 0), to == END,
            f"{sets}{value}" if sets else "",
        )  # fmt: skip

    def _to(self, step_id: str, to: str, by: str) -> int:
        return self.flow.numbers.get(self.flow.leads(step_id, to, by), 0)

    def _expected(self, step: Ask) -> Row:
        if step.address:
            label = ADDRESS_NAMES[step.address]
            notes = [
                "may be skipped" if step.optional else "",
                "passed over where known" if step.known == "skip" else "",
            ]
            return Row("answer", (Piece("on a page → "), Piece(label, "field")), note=" · ".join(filter(None, notes)))
        subject = self._here.subject(step.field_id, step.passing)
        if subject is None:
            return Row("answer", (Piece("an answer, kept nowhere yet"),))
        field = subject.field
        kind = _EXPECTED.get(field.type_key, field.type.label.lower())
        must = "; ".join(say_check(check, field.unit) for check in step.checks)
        then = {"skip": "goes on without", "hand": "hands over"}.get(
            step.then, f"line {self.flow.numbers.get(step.then, '?')}"
        )
        notes = [f"must {must}" if must else "", f"else “{step.retry}”" if step.retry else ""]
        notes += [f"after {step.tries} tries {then}", "may be skipped" if step.optional else ""]
        known = {"skip": "passed over where known", "confirm": "confirmed where known"}.get(step.known, "")
        words = f"{kind if field.type_key in _EXPECTED else ('an ' if kind[:1] in 'aeiou' else 'a ') + kind} → "
        return Row(
            "answer", (Piece(words), Piece(field.label, "field")), note=" · ".join(filter(None, [*notes, known]))
        )

    def _action(self, one: Action) -> tuple[Piece, ...]:
        if one.verb in ("tag_on", "tag_off", "send"):
            return (Piece(f"{VERBS[one.verb]} "), Piece(one.value or "…", "value"))
        if one.verb in ("list_on", "list_off"):
            name = next((known.name for known in self.view.catalogue.lists if known.id == one.list_id), "…")
            return (Piece(f"{VERBS[one.verb]} "), Piece(name, "value"))
        label = self._label(one.field_id, one.passing) or "…"
        value = (Piece(one.value or "…", "value"),) if one.verb != "is_emptied" else ()
        return (Piece(label, "field"), Piece(f" {VERBS[one.verb]} "), *value)


def _shares(step: Say) -> int:
    return sum(one.share for one in step.texts)


def threads_of(flow: Flow) -> str:
    """Which line each leads to, for the map at the left: pairs of numbers, and what kind of thread it is, as JSON.

    What merely follows is a straight thread and not among them.
    """
    found: list[list[Any]] = []
    lines = [step.id for step in flow.lines]
    following = dict(pairwise(lines))
    for step in flow.lines:
        for way in flow.ways(step):
            if way.to == END:
                continue
            kind = "tries" if way.by in ("tries", "skip") else "reply" if way.by else "to"
            if way.to != following.get(step.id):
                found.append([flow.numbers[step.id], flow.numbers[way.to], kind])
    return json.dumps(_each_once(found))


def _each_once(pairs: Sequence[list[Any]]) -> list[list[Any]]:
    seen: Mapping[tuple[Any, ...], None] = dict.fromkeys(tuple(one) for one in pairs)
    return [list(one) for one in seen]
