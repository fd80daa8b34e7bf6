"""Putting answers into the journal: checked, corrected, taken again."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from finesieve.core.chat.asking import offered
from finesieve.core.chat.journal import SET, Entry
from finesieve.core.chat.prepare import PASSING, Subject
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import (
    Ask,
    Choose,
)
from finesieve.core.fields.about import HOUSE
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.rows import inside
from finesieve.core.values import Value

__all__ = ["keep_answer", "problem_of", "put_answer", "put_answer_parts", "put_aside", "reused"]


def problem_of(run: Run, step: Any, subject: Subject, value: Value) -> tuple[str, bool]:
    """What a check of the line says of a value, "" for nothing; and whether the house worded it."""
    tests = run.script.checks(step) if isinstance(step, Ask) else ()
    if not tests or value is None:
        return "", False
    if subject.of_record:
        row: Mapping[str, Value] = inside(run.around, {**run.member(run.state.record), subject.key: value})
    else:
        run.around.answer(subject.key, value)
        row = run.row
    failed = next((one for one in tests if one.rule is not None and one.rule.program(row, run.moment) is False), None)
    if failed is not None:
        run.renew()
    return (failed.message, bool(failed.check.message)) if failed is not None else ("", False)


def put_answer(
    run: Run, step: Any, subject: Subject | None, value: Value, said: str, shown: str, *, reply: str = ""
) -> None:
    """Put an answer into the journal, and lead on."""
    frame, stack = run.state.stack[-1], run.state.stack
    parts = run.amount(subject, SET, to_json(value)) if subject is not None and reply not in ("known", "skip") else {}
    entry = Entry("answer", frame.visit, stack, said, shown or said, reply, **parts)
    keep_answer(run, entry)
    chosen = next((one for one in getattr(step, "replies", ()) if one.id == reply), None)
    to = chosen.to if chosen is not None else getattr(step, "to", "")
    run.move(run.script.flow.leads(step.id, to, chosen.id if chosen is not None else ""))


def _corrected(run: Run, place: int, entry: Entry) -> None:
    """Put another answer in the place of one; later ones are put aside, to be taken again where they are reached."""
    journal = run.state.journal
    run.change(journal=(*journal[:place], entry), reuse=journal[place + 1 :],
        committed=min(run.state.committed, place),
    )  # fmt: skip
    run.renew()


def put_answer_parts(run: Run, step: Ask, shown: str, reply: str, parts: Mapping[str, Any]) -> None:
    """Put an answer that was not typed into the journal, with what comes of it, and lead on."""
    keep_answer(run, Entry("answer", run.state.stack[-1].visit, run.state.stack, "", shown, reply, **parts))
    run.move(run.script.flow.leads(step.id, step.to))


def put_aside(run: Run) -> Entry | None:
    """Take out the answer to this line that a correction has put aside, and what comes before it."""
    here = (*run.state.place, run.state.record)
    later = next((n for n, one in enumerate(run.state.reuse) if one.kind == "answer" and one.question == here), None)
    if later is None:
        return None
    entry = run.state.reuse[later]
    run.change(reuse=run.state.reuse[later + 1 :])
    return entry


def keep_answer(run: Run, entry: Entry) -> None:
    """Put an answer into the journal; in the place of the one that is being corrected, where one is."""
    fixing = run.state.sub.get("fix")
    if fixing is not None:
        _corrected(run, int(fixing), entry)
    else:
        run.keep(entry)


def reused(run: Run, step: Any, subject: Subject | None) -> bool:
    """Take an answer that was put aside, where there is one to this line that still fits."""
    entry = put_aside(run)
    if entry is None:
        return False
    if not _still_fits(run, step, subject, entry):
        run.note("The earlier answer does not fit any more.")
        return False
    run.keep(replace(entry, stack=run.state.stack, visit=run.state.stack[-1].visit))
    chosen = next((one for one in getattr(step, "replies", ()) if one.id == entry.reply), None)
    to = chosen.to if chosen is not None else getattr(step, "to", "")
    run.move(run.script.flow.leads(step.id, to, chosen.id if chosen is not None else ""))
    return True


def _still_fits(run: Run, step: Any, subject: Subject | None, entry: Entry) -> bool:
    is_prepared = isinstance(step, Choose) and entry.reply.startswith("b")
    if is_prepared and not any(one.id == entry.reply for one in offered(run, step, subject)):
        return False
    if subject is None or entry.reply in ("known", "skip"):
        return True
    kept: Any = entry.passing.get(f"{run.state.place[0]}:{subject.key}")
    if subject.of != PASSING:
        of_record = entry.records.get(run.state.record, {})
        amounts = of_record if subject.of_record else entry.house if subject.of == HOUSE else entry.person
        kept = amounts.get(subject.key, (SET, None))[1]
    try:
        value = subject.field.from_kept(kept)
    except ValueError:
        return False
    return not problem_of(run, step, subject, value)[0]
