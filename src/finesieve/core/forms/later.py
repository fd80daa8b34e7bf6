"""Answers that whoever ordered may change later: those that nothing which was charged depends on."""

from collections.abc import Iterator

from finesieve.core.fields.about import ORDER
from finesieve.core.forms.definition import Form, Question, Section
from finesieve.core.forms.problems import rule_of
from finesieve.core.model.catalogue import Catalogue

__all__ = ["why_not_later"]


def why_not_later(question: Question, form: Form, catalogue: Catalogue) -> str:
    """Why the answer to a question cannot be left open to change, in one sentence; "" where it can."""
    known = catalogue.by_id.get(question.field_id)
    if known is None or known.about != ORDER:
        return "Only an answer about the order can be changed later."
    if known.type.kind in ("file", "secret"):
        return "A file, or a secret, cannot be changed later."
    if question.surcharges:
        return "It adds a charge, so it cannot be changed later."
    if {known.key, f"order.{known.key}", f"form.{known.key}"} & _charged_by(form, catalogue):
        return "What is charged depends on it, so it cannot be changed later."
    return ""


def _charged_by(form: Form, catalogue: Catalogue) -> frozenset[str]:
    """The names that charges and repeats read: directly, by derived fields, and by the rules of what they read."""
    reads = {question.id: frozenset(_reads(question, section, form, catalogue)) for section, question in _all(form)}
    by_key = {_key(question, catalogue): question.id for _, question in _all(form)}
    found: set[str] = set()
    for section, question in _all(form):
        if question.surcharges or section.repeat:
            found |= reads[question.id]
    waiting = list(found)
    while waiting:
        name = waiting.pop().rpartition(".")[2]
        derived = catalogue.derivation.formulas.get(name)
        more = derived.names if derived is not None else reads.get(by_key.get(name, ""), frozenset())
        new = more - found
        found |= new
        waiting += new
    return frozenset(found)


def _all(form: Form) -> Iterator[tuple[Section, Question]]:
    return ((section, question) for section in form.sections for question in section.questions)


def _key(question: Question, catalogue: Catalogue) -> str:
    known = catalogue.by_id.get(question.field_id)
    return known.key if known is not None else ""


def _reads(question: Question, section: Section, form: Form, catalogue: Catalogue) -> Iterator[str]:
    """What the charges of a question read, when it shows, and how often its section is asked."""
    texts = [question.show_when, section.show_when, *(one.amount for one in question.surcharges)]
    texts += [section.repeat.count] if section.repeat else []
    for text in texts:
        typed = rule_of(text, form, catalogue, section)
        if typed is not None:
            yield from typed.names
