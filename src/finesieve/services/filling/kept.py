"""What is kept of a filled-in form: by its submission as it was sent, by its order as it was corrected since."""

from collections.abc import Mapping, Sequence
from typing import Any

from finesieve.core.commerce.cart import Cart
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.outcome import Charge, Outcome, Results
from finesieve.core.values import plain_number
from finesieve.services.commerce.filled import Filled, lines_of
from finesieve.services.filling.situation import records_to_json

__all__ = ["as_filled", "as_sent", "typed_answers", "with_ids"]

_NOT_KEPT = ("secret", "file")
"""The kinds of value whose input is not kept: a secret must not be, a file is known by its value."""


def as_sent(outcome: Outcome, results: Results) -> dict[str, Any]:
    """The answers, records and charges of a filled-in form, as they are kept. Secrets in `results` are hashed."""
    return {
        "answers": {key: to_json(value) for key, value in results.answers.items()},
        "records": records_to_json(results.records),
        "charges": [[one.label, plain_number(one.amount), *_reason(outcome, one)] for one in outcome.charges],
    }


def _reason(outcome: Outcome, charge: Charge) -> tuple[str, int]:
    """Which answer a charge is for, in words, `Swap table: yes`, and the id of its field."""
    asked = outcome.of(charge.question_id)
    return (f"{asked.label}: {asked.field.show(asked.value)}", asked.field.id) if asked is not None else ("", 0)


def typed_answers(outcome: Outcome) -> dict[str, str]:
    """What was typed, by the names of inputs, and which fillings there are of sections whose number is free."""
    typed = {
        one.id: one.raw
        for one in outcome.walk()
        if one.verdict is True and not one.question.hidden and one.field.type.kind not in _NOT_KEPT
    }
    fillings = {
        shown.section.id: " ".join(filling.id for filling in shown.fillings)
        for shown in outcome.sections
        if shown.section.repeat and not shown.counted
    }
    return typed | fillings


def as_filled(
    outcome: Outcome,
    results: Results,
    cart: Cart,
    page: Mapping[str, str],
    *,
    known: bool,
    added: Sequence[tuple[int, int]] = (),
) -> Filled:
    """A filled-in checkout, as its order keeps it; `added` are the new records, by type and id, in their order."""
    sent = as_sent(outcome, results)
    return Filled(
        typed=typed_answers(outcome), lines=tuple(lines_of(cart)), page=dict(page), known=known,
        answers=sent["answers"], records=with_ids(sent["records"], added), charges=sent["charges"],
    )  # fmt: skip


def with_ids(records: Sequence[dict[str, Any]], added: Sequence[tuple[int, int]]) -> list[dict[str, Any]]:
    """Records as they are kept, each with the `id` of the record that it became; 0 as long as it has become none."""
    new = iter(added)
    return [{**one, "id": one["record_id"] or next(new, (0, 0))[1]} for one in records]
