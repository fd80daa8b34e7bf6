"""What can be told of a script without running it: lines never reached, circles, what may be blank where it is needed.

Limits: a branch is weighed by its own rule alone, so that two rules that can never both be true are not seen; values
that are stored may be blank, and are taken to be.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Final

from finesieve.core.chat.flow import Flow
from finesieve.core.chat.prepare import PreparedScript, Subject
from finesieve.core.chat.script import END, Ask, Branch, Choose, Confirm, Do, EachRecord, HandOver, SumUp, Wait
from finesieve.core.chat.script import End as EndStep
from finesieve.core.chat.words import edits_within, fold_reply
from finesieve.core.forms.rows import RECORD_PREFIX
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.program import Moment

__all__ = ["ScriptFinding", "script_findings"]


@dataclass(frozen=True, slots=True)
class ScriptFinding:
    """Something worth a look at a line: what, and what to do about it."""

    line: str
    code: str
    message: str
    remedy: str


_WAITING: Final = (Ask, Choose, Confirm, EachRecord, SumUp, Wait, HandOver, EndStep)
"""Where it waits, or comes to an end by itself: one record after the other does."""


def script_findings(script: PreparedScript, moment: Moment) -> tuple[ScriptFinding, ...]:
    """All findings, in the order of the lines."""
    flow = script.flow
    found = [
        *_unreached(flow), *_circles(flow), *_verdicts(script, moment), *_twice(script), *_blank(script),
        *_alike(script), *_opposing(flow), *_could_be_choice(script),
    ]  # fmt: skip
    return tuple(sorted(found, key=lambda one: flow.numbers.get(one.line, 0)))


def _reached(flow: Flow) -> set[str]:
    found: set[str] = set()
    waiting = [flow.first]
    while waiting:
        line = waiting.pop()
        if line != END and line not in found:
            found.add(line)
            waiting += [way.to for way in flow.ways(flow.by_id[line])]
    return found


def _unreached(flow: Flow) -> Iterator[ScriptFinding]:
    reached = _reached(flow)
    for step in flow.lines:
        if step.id not in reached:
            yield ScriptFinding(
                step.id, "unreached", "Nothing leads to this line.", "Let a reply or a line lead to it, or remove it."
            )


def _circles(flow: Flow) -> Iterator[ScriptFinding]:
    """A way round that asks nothing: it would go on for ever."""
    quiet = {step.id for step in flow.lines if not isinstance(step, _WAITING)}
    done: set[str] = set()
    for start in (step.id for step in flow.lines):
        if start not in quiet or start in done:
            continue
        seen, waiting = set(), [way.to for way in flow.ways(flow.by_id[start])]
        while waiting:
            line = waiting.pop()
            if line == start:
                done.add(start)
                yield ScriptFinding(
                    start, "circle", "From here it comes back here without asking anything.",
                    "Ask something on the way round, or lead out of it.",
                )  # fmt: skip
                break
            if line in quiet and line not in seen:
                seen.add(line)
                waiting += [way.to for way in flow.ways(flow.by_id[line])]


def _verdicts(script: PreparedScript, moment: Moment) -> Iterator[ScriptFinding]:
    """Branches whose rule reads nothing: they are always taken, or never; and what comes after one always taken."""
    for step in script.flow.lines:
        if not isinstance(step, Branch):
            continue
        rules: set[str] = set()
        for case in step.cases:
            typed = script.at(step.id).check(case.rule).typed if case.rule.strip() else None
            if typed is None:
                continue
            constant = not typed.names and all(
                part.operation not in ("house", "today", "now", "collect") for part in typed.walk()
            )
            if constant:
                taken = compile_python(typed)({}, moment) is True
                word = "always" if taken else "never"
                yield ScriptFinding(step.id, word, f"It is {word} taken: {case.rule}.", "Let the rule read an answer.")
            if case.rule.strip() in rules:
                yield ScriptFinding(
                    step.id, "never", f"It is never taken: the same rule stands before it: {case.rule}.",
                    "Change one of the two.",
                )  # fmt: skip
            rules.add(case.rule.strip())


def _asks(step: Any) -> tuple[int, str] | None:
    return (step.field_id, step.passing) if isinstance(step, Ask | Choose) and (step.field_id or step.passing) else None


def _twice(script: PreparedScript) -> Iterator[ScriptFinding]:
    """The same is asked again further on along one way."""
    flow = script.flow
    before: dict[tuple[int, str], list[str]] = {}
    for step in flow.lines:
        wanted = _asks(step)
        if wanted is None:
            continue
        earlier = before.setdefault(wanted, [])
        first = next((one for one in earlier if _leads(flow, one, step.id)), None)
        if first is not None and getattr(step, "known", "ask") == "ask":
            yield ScriptFinding(
                step.id, "twice", f"The same was asked in line {flow.numbers[first]}.",
                "Let it be passed over where it is known, or ask it once.",
            )  # fmt: skip
        earlier.append(step.id)


def _leads(flow: Flow, start: str, goal: str) -> bool:
    seen: set[str] = set()
    waiting = [way.to for way in flow.ways(flow.by_id[start])]
    while waiting:
        line = waiting.pop()
        if line == goal:
            return True
        if line != END and line not in seen:
            seen.add(line)
            waiting += [way.to for way in flow.ways(flow.by_id[line])]
    return False


def _answered_before(script: PreparedScript) -> dict[str, frozenset[str]]:
    """For each line the keys that are answered on every way to it: a forward flow, met by what all ways share."""
    flow = script.flow
    known: dict[str, frozenset[str] | None] = {step.id: None for step in flow.lines}
    if not flow.lines:
        return {}
    known[flow.first] = frozenset()
    waiting = [flow.first]
    while waiting:
        line = waiting.pop(0)
        step = flow.by_id[line]
        here = known[line] or frozenset()
        for way in flow.ways(step):
            if way.to == END:
                continue
            after = here | (frozenset() if way.by in ("skip", "tries") else _gives(script, step))
            before = known[way.to]
            merged = after if before is None else before & after
            if merged != before:
                known[way.to] = merged
                waiting.append(way.to)
    return {line: found for line, found in known.items() if found is not None}


def _gives(script: PreparedScript, step: Any) -> frozenset[str]:
    """The keys that have a value once a line is passed."""
    if isinstance(step, Ask | Choose) and not getattr(step, "optional", False):
        subject = script.at(step.id).subject(step.field_id, step.passing)
        return frozenset((_name_of(subject),)) if subject is not None else frozenset()
    if isinstance(step, Do):
        subjects = (
            script.at(step.id).subject(one.field_id, one.passing) for one in step.actions if one.verb in _GIVING
        )
        return frozenset(_name_of(one) for one in subjects if one is not None)
    return frozenset()


def _name_of(subject: Subject) -> str:
    """What a subject is called in expressions, those of the record apart."""
    return f"{RECORD_PREFIX}{subject.key}" if subject.of_record else subject.key


_GIVING: Final = ("becomes", "gains", "loses")


def _blank(script: PreparedScript) -> Iterator[ScriptFinding]:
    """A calculation over what may not be answered yet where it stands."""
    before = _answered_before(script)
    starts = {one.key for one in script.script.passing if one.start}
    labels = {one.key: one.label for one in script.catalogue.fields} | {
        one.key: one.label for one in script.script.passing
    }
    for step in script.flow.lines:
        if not isinstance(step, Do) or step.id not in before:
            continue
        for action in step.actions:
            typed = (
                script.at(step.id).check(action.value).typed
                if action.verb in _GIVING and action.value.strip()
                else None
            )
            if typed is None:
                continue
            names = {name.removeprefix("form.") for name in typed.names if "." not in name.removeprefix("form.")}
            leaves = {
                name for name in script.catalogue.derivation.ancestors(frozenset(names))
                if name not in script.catalogue.derivation.formulas
            }  # fmt: skip
            unknown = sorted(leaves & _askable(script) - before[step.id] - starts)
            if unknown:
                missing = ", ".join(labels.get(key, key) for key in unknown)
                yield ScriptFinding(
                    step.id, "blank", f"{missing} may still be blank here; then nothing is done.",
                    "Ask it on every way that leads here, or say what counts where it is blank.",
                )  # fmt: skip


def _askable(script: PreparedScript) -> set[str]:
    return {one.key for one in script.catalogue.stored} | set(script.passing)


def _alike(script: PreparedScript) -> Iterator[ScriptFinding]:
    """Replies that would store nearly the same text."""
    for step in script.flow.lines:
        if not isinstance(step, Choose):
            continue
        values = [(reply.value or reply.label) for reply in step.replies if reply.kind == "reply"]
        for place, one in enumerate(values):
            for other in values[place + 1 :]:
                near = len(one) > 4 and edits_within(fold_reply(one), fold_reply(other), 1)
                if _asks(step) is not None and (fold_reply(one) == fold_reply(other) or near):
                    yield ScriptFinding(
                        step.id, "alike", f"“{one}” and “{other}” are nearly the same.",
                        "Let both store the same value, or tell them apart.",
                    )  # fmt: skip


def _opposing(flow: Flow) -> Iterator[ScriptFinding]:
    """Replies of one question that put on a tag and take it off: that is a stage, and a field of its own."""
    for step in flow.lines:
        if not isinstance(step, Choose):
            continue
        put: dict[str, set[str]] = {}
        for reply in step.replies:
            first = flow.by_id.get(flow.leads(step.id, reply.to, reply.id))
            for action in first.actions if isinstance(first, Do) else ():
                if action.verb in ("tag_on", "tag_off"):
                    put.setdefault(action.value.strip(), set()).add(action.verb)
        both = sorted(tag for tag, verbs in put.items() if len(verbs) > 1)
        if both:
            yield ScriptFinding(
                step.id, "opposing", f"One reply puts on the tag {both[0]}, another takes it off.",
                "Make it a progress field, and let the replies set that.",
            )  # fmt: skip


def _could_be_choice(script: PreparedScript) -> Iterator[ScriptFinding]:
    """Buttons over a text field."""
    for step in script.flow.lines:
        if not isinstance(step, Choose):
            continue
        subject = script.at(step.id).subject(step.field_id, step.passing)
        if subject is not None and subject.field.type_key == "short_text" and not step.passing:
            yield ScriptFinding(
                step.id, "choice", f"{subject.field.label} is a text, and these are its only values.",
                "Make it a choice with these options.",
            )  # fmt: skip
