"""What keeps a script from being published: things that are gone, rules and texts that cannot work."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Final

from finesieve.core.chat.prepare import PreparedScript, Subject
from finesieve.core.chat.script import (
    ADDRESS_NAMES,
    NEXT,
    Ask,
    Branch,
    Choose,
    Do,
    EachRecord,
    GoTo,
    Say,
    parts_of,
    texts_of,
)
from finesieve.core.fields.about import HOUSE
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.placeholders import expressions_in, placeholder_problems
from finesieve.core.language.problems import Problem

__all__ = ["ScriptProblem", "script_problems"]


@dataclass(frozen=True, slots=True)
class ScriptProblem:
    """What is wrong at a line, in a sentence; `problems` are those within its rule or text."""

    line: str
    part: str
    message: str
    problems: tuple[Problem, ...] = ()


_FORMULAS: Final = ("becomes", "gains", "loses")
_NUMBERS: Final = ("number", "money")


def script_problems(script: PreparedScript, known_scripts: Iterable[str] = ()) -> tuple[ScriptProblem, ...]:
    """All that keeps a script from being published. `known_scripts` are the short names that it may lead through."""
    if not script.flow.lines:
        return (ScriptProblem("", "steps", "Write a line first."),)
    scripts = frozenset(known_scripts)
    return tuple(problem for step in script.flow.lines for problem in _of_line(script.at(step.id), step, scripts))


def _of_line(script: PreparedScript, step: Any, scripts: frozenset[str]) -> Iterator[ScriptProblem]:
    yield from _of_asking(script, step)
    yield from _of_kind(script, step, scripts)
    for part in (step, *parts_of(step)):
        to = getattr(part, "to", "")
        if to and to != "end" and to not in script.flow.by_id:
            yield ScriptProblem(step.id, "to", "It leads to a line that is gone.")
        elif _into_a_record(script, step.id, to):
            yield ScriptProblem(step.id, "to", "It leads among lines about a record, which has not been chosen then.")
    for at, text in texts_of(step):
        yield from _of_text(script, step.id, "text" if at == step.id else at, text)


def _into_a_record(script: PreparedScript, step_id: str, to: str) -> bool:
    """Whether a line leads from outside among the lines about a record."""
    block = script.flow.block(to)
    return bool(block) and block != to and script.flow.block(step_id) != block


def _of_records(script: PreparedScript, step: EachRecord) -> Iterator[ScriptProblem]:
    if not script.collection_of(step):
        yield ScriptProblem(step.id, "records", "Say which records it is about.")
    if step.under and script.flow.block(script.flow.owner(step).id):
        yield ScriptProblem(step.id, "records", "Lines about a record cannot be about another record as well.")
    if script.flow.block(script.flow.leads(step.id, "", step.inside.id)) != step.id:
        yield ScriptProblem(step.id, "records", "Write a line under it: what is asked about the record.")


def _of_kind(script: PreparedScript, step: Any, scripts: frozenset[str]) -> Iterator[ScriptProblem]:
    match step:
        case Say() if not any(one.text.strip() for one in step.texts) and not step.picture:
            yield ScriptProblem(step.id, "text", "It says nothing yet.")
        case Branch():
            for case in step.cases:
                yield from _of_expression(script, step.id, case.id, case.rule, "yes_no", "Say when it goes this way.")
        case EachRecord():
            yield from _of_records(script, step)
        case Do():
            for place, action in enumerate(step.actions):
                yield from _of_action(script, step.id, f"action{place}", action)
        case GoTo() if step.script and step.script not in scripts:
            yield ScriptProblem(step.id, "script", "The script it leads through is not there.")
        case GoTo() if not step.script and step.to == NEXT:
            yield ScriptProblem(step.id, "to", "Say where it goes on.")


def _of_text(script: PreparedScript, line: str, part: str, text: str) -> Iterator[ScriptProblem]:
    for problem in placeholder_problems(text, script.check) if "{" in text else ():
        yield ScriptProblem(line, part, problem.message, (problem,))
    for expression in expressions_in(text):
        if _is_private(script, script.check(expression)):
            yield ScriptProblem(line, "text", f"{expression} is private to staff, and cannot be told here.")


def _of_asking(script: PreparedScript, step: Any) -> Iterator[ScriptProblem]:
    if not isinstance(step, Ask | Choose):
        return
    subject = script.subject(step.field_id, step.passing)
    if isinstance(step, Choose):
        yield from _of_replies(script, step, subject)
    elif step.address:
        if not script.page_fields(step):
            yield ScriptProblem(step.id, "field", f"{ADDRESS_NAMES[step.address]} is not in use here.")
        return
    elif not (step.field_id or step.passing):
        yield ScriptProblem(step.id, "field", "Say what the answer is kept in.")
    if (step.field_id or step.passing) and (subject is None or not script.can_ask(subject.field)):
        yield ScriptProblem(step.id, "field", "What it asks is gone, paused, or private to staff.")
    elif subject is not None and subject.of == HOUSE:
        yield ScriptProblem(step.id, "field", "This is one value for everybody: ask a field of the person instead.")


def _of_replies(script: PreparedScript, step: Choose, subject: Subject | None) -> Iterator[ScriptProblem]:
    if not any(reply.kind == "reply" for reply in step.replies):
        yield ScriptProblem(step.id, "replies", "Give it a reply to choose.")
    if subject is None or not script.can_ask(subject.field):
        return
    if subject.field.type.kind in ("secret", "file", "structured"):
        yield ScriptProblem(step.id, "field", f"Replies cannot set {subject.field.label}: ask for a value instead.")
        return
    for reply in step.replies:
        yield from _of_reply(script, step, reply, subject.field)


def _of_reply(script: PreparedScript, step: Any, reply: Any, field: Any) -> Iterator[ScriptProblem]:
    """A value of the wrong kind is told as one writes it."""
    if reply.kind != "reply":
        return
    raw = reply.value or reply.label
    stored = {fold: one.stored_value for one in field.offered for fold in (one.label.casefold(), one.stored_value)}
    if field.options:
        if raw not in stored.values() and raw.casefold() not in stored:
            yield ScriptProblem(step.id, reply.id, f"{field.label} has no option “{raw}”.")
        return
    try:
        field.parse(raw)
    except ValueError as why:
        yield ScriptProblem(step.id, reply.id, f"“{raw}” cannot be {field.label}: {why}")


def _of_action(script: PreparedScript, line: str, part: str, action: Any) -> Iterator[ScriptProblem]:
    missing = _MISSING.get(action.verb, "")
    if action.verb in ("list_on", "list_off"):
        if all(one.id != action.list_id for one in script.catalogue.lists):
            yield ScriptProblem(line, part, missing)
    elif missing:
        if not action.value.strip():
            yield ScriptProblem(line, part, missing)
    else:
        yield from _of_change(script, line, part, action)


_MISSING: Final = {
    "tag_on": "Name the tag.", "tag_off": "Name the tag.", "list_on": "Name the list.", "list_off": "Name the list.",
    "send": "Write the message.",
}  # fmt: skip


def _of_change(script: PreparedScript, line: str, part: str, action: Any) -> Iterator[ScriptProblem]:
    subject = script.subject(action.field_id, action.passing)
    if subject is None:
        yield ScriptProblem(line, part, "Say what is changed.")
        return
    kind = subject.field.value_type.kind
    if action.verb in ("gains", "loses") and kind not in _NUMBERS:
        yield ScriptProblem(line, part, f"{subject.field.label} is no number: it cannot gain or lose.")
    if action.verb not in _FORMULAS:
        return
    expect = kind if action.verb == "becomes" and kind not in ("money", "choice", "choices") else None
    yield from _of_expression(script, line, part, action.value, expect, "Say what it becomes.")
    typed = script.check(action.value).typed if action.value.strip() else None
    if typed is not None and action.verb in ("gains", "loses") and typed.type.kind not in _NUMBERS:
        yield ScriptProblem(line, part, "This is no number.")


def _of_expression(
    script: PreparedScript, line: str, part: str, text: str, expect: Any, missing: str
) -> Iterator[ScriptProblem]:
    if not text.strip():
        yield ScriptProblem(line, part, missing)
        return
    found = check(text, script.world, zone=script.catalogue.zone, expect=expect)
    if found.problems:
        yield ScriptProblem(line, part, found.problems[0].message, found.problems)


def _is_private(script: PreparedScript, checked: Checked) -> bool:
    if checked.typed is None:
        return False
    return script.is_private(checked.typed)
