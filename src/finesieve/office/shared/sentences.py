"""The sentence editor: from a posted form to clauses, and what each word of a clause may become."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from finesieve.core.catalogue import Catalogue
from finesieve.core.fields.definition import Field
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.language.sentence import (
    RELATIONS,
    Clause,
    Joiner,
    Quoted,
    Relation,
    Sentence,
    relations_for,
    sentence_to_tree,
    tree_to_sentence,
)
from finesieve.web.posted import PostedForm, whole_number

__all__ = [
    "Draft",
    "SentenceDraft",
    "draft_from_text",
    "draft_of",
    "read_sentence",
]

MOST_CLAUSES = 50


@dataclass(frozen=True, slots=True)
class Draft:
    """One clause as it stands in the editor; it may lack a value yet.

    `quoted` is a formula that the sentence cannot say, and then all there is.
    """

    field: Field | None = None
    relation: Relation | None = None
    values: tuple[str, ...] = ()
    quoted: str = ""
    message: str = ""

    @property
    def complete(self) -> bool:
        return not self.message

    @property
    def choices(self) -> tuple[Relation, ...]:
        """The relations offered for the field."""
        return relations_for(self.field.value_type.kind) if self.field else ()

    @property
    def words(self) -> str:
        """The relation in words."""
        assert self.field is not None and self.relation is not None
        return self.relation.words[self.field.value_type.kind]

    @property
    def shown(self) -> str:
        """The values in words: `North, Hill`, `30 m²`, `1 and 5`."""
        field = self.field
        if field is None or self.relation is None:
            return ""
        labels = [field.label_of(value) if field.options else value for value in self.values]
        joined = (" and " if self.relation.takes == "two" else ", ").join(labels)
        return f"{joined} {field.unit}" if field.unit and joined else joined

    def value(self, place: int) -> str:
        """The value at a place; "" where there is none yet."""
        return self.values[place] if place < len(self.values) else ""


@dataclass(frozen=True, slots=True)
class SentenceDraft:
    """A sentence in the editor."""

    joiner: Joiner
    drafts: tuple[Draft, ...]

    def expression(self, catalogue: Catalogue) -> str:
        """The text of the complete clauses; "" where there are none."""
        clauses = tuple(_clause(draft) for draft in self.drafts if draft.complete)
        if not clauses:
            return ""
        return print_expression(sentence_to_tree(Sentence(self.joiner, clauses), catalogue.names))

    @property
    def complete(self) -> bool:
        return all(draft.complete for draft in self.drafts)


def _clause(draft: Draft) -> Clause | Quoted:
    if draft.field is None or draft.relation is None:
        return Quoted(draft.quoted)
    return Clause(draft.field.key, draft.relation.id, draft.values)


def draft_from_text(text: str, catalogue: Catalogue) -> SentenceDraft:
    """The sentence that a saved expression says; one that does not parse is quoted whole."""
    if not text:
        return SentenceDraft("and", ())
    tree = parse(text).tree
    if tree is None:
        return SentenceDraft("and", (Draft(quoted=text),))
    sentence = tree_to_sentence(tree, catalogue.names)
    return SentenceDraft(sentence.joiner, tuple(draft_of(clause, catalogue) for clause in sentence.clauses))


def draft_of(clause: Clause | Quoted, catalogue: Catalogue) -> Draft:
    """One saved clause as the editor shows it."""
    if isinstance(clause, Quoted):
        return Draft(quoted=clause.text)
    return Draft(catalogue.by_key[clause.key], RELATIONS[clause.relation], clause.values)


def read_sentence(form: PostedForm, catalogue: Catalogue, askable: Sequence[Field]) -> SentenceDraft:
    """The sentence as posted, after the button that was pressed: `add`, `remove:2`, `up:1`, `down:0`."""
    joiner: Joiner = "or" if form.one("joiner") == "or" else "and"
    count = whole_number(form.one("clauses")) or 0
    drafts = [_read(form, place, catalogue) for place in range(min(count, MOST_CLAUSES))]
    action, _, rest = form.one("action").partition(":")
    pressed = whole_number(rest)
    drafts = _acted(drafts, action, -1 if pressed is None else pressed, askable)
    return SentenceDraft(joiner, tuple(drafts))


def _acted(drafts: list[Draft], action: str, place: int, askable: Sequence[Field]) -> list[Draft]:
    if action == "add" and askable and len(drafts) < MOST_CLAUSES:
        return [*drafts, _checked(Draft(askable[0], relations_for(askable[0].value_type.kind)[0]))]
    if not 0 <= place < len(drafts):
        return drafts
    if action == "remove":
        return drafts[:place] + drafts[place + 1 :]
    other = place + {"up": -1, "down": 1}.get(action, 0)
    if 0 <= other < len(drafts):
        drafts[place], drafts[other] = drafts[other], drafts[place]
    return drafts


def _read(form: PostedForm, place: int, catalogue: Catalogue) -> Draft:
    prefix = f"c{place}_"
    if f"{prefix}quoted" in form:
        quoted = form.one(f"{prefix}quoted")
        problems = parse(quoted).problems
        return Draft(quoted=quoted, message=problems[0].message if problems else "")
    field = catalogue.by_key.get(form.one(f"{prefix}key"))
    if field is None:
        return Draft(quoted="", message="The field of this condition is gone; remove the condition.")
    offered = relations_for(field.value_type.kind)
    relation = next((found for found in offered if found.id == form.one(f"{prefix}relation")), offered[0])
    values = form.all(f"{prefix}value") if form.one(f"{prefix}was") in ("", field.key) else []
    return _checked(Draft(field, relation, _fitting(values, field, relation)))


def _fitting(values: Iterable[str], field: Field, relation: Relation) -> tuple[str, ...]:
    """Those of the values that the relation can take; switching between *is* and *is one of* keeps them."""
    kept = [value if field.options else value.strip() for value in values]
    if field.options:
        kept = [value for value in dict.fromkeys(kept) if value in field.value_type.options]
    most: dict[Literal["nothing", "one", "two", "some"], int] = {"nothing": 0, "one": 1, "two": 2, "some": 200}
    return tuple(kept[: most[relation.takes]])


def _checked(draft: Draft) -> Draft:
    """The draft with what it lacks said."""
    assert draft.field is not None and draft.relation is not None
    clause = Clause(draft.field.key, draft.relation.id, draft.values)
    try:
        sentence_to_tree(Sentence("and", (clause,)), {draft.field.key: draft.field.value_type})
    except ValueError as problem:
        return replace(draft, message=str(problem))
    return draft
