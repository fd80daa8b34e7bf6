"""The sentence editor: from a posted form to clauses, and what each word of a clause may become."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
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
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import Type
from finesieve.web.posted import PostedForm, whole_number

__all__ = [
    "Draft",
    "SentenceDraft",
    "Vocabulary",
    "draft_from_text",
    "draft_of",
    "read_sentence",
    "words_about_people",
    "words_of_records",
]

MOST_CLAUSES = 50


@dataclass(frozen=True)
class Vocabulary:
    """What a sentence may speak of: fields by key, in the order offered.

    `where` says where it stands, as the address of its words wants it.
    """

    fields: Mapping[str, Field]
    where: str = "about=person"

    @cached_property
    def names(self) -> dict[str, Type]:
        return {key: field.value_type for key, field in self.fields.items()}

    @cached_property
    def offered(self) -> tuple[Field, ...]:
        return tuple(one for one in self.fields.values() if one.id or one.options)


def words_about_people(catalogue: Catalogue, *, without: int = 0) -> Vocabulary:
    """The fields of a person, and their level, tags and lists; but for the one of this id."""
    sound = (one for one in catalogue.fields if one.key not in catalogue.broken and (one.derived or one.stores))
    found = {one.key: one for one in sound if one.id != without}
    for key, label, held in (
        ("level", "Level", [(one.key, one.name) for one in catalogue.levels]),
        ("tags", "Tags", [(tag, tag) for tag in catalogue.tags]),
        ("lists", "Lists", [(one.key, one.name) for one in catalogue.lists]),
    ):
        options = tuple(Option(name, value) for value, name in held)
        found[key] = Field(0, key, label, "progress" if key == "level" else "choices", 0, options=options)
    return Vocabulary(found)


def words_of_records(catalogue: Catalogue, about: str, *, without: int = 0) -> Vocabulary:
    """The fields of a record first, then those of its person."""
    own = {one.key: one for one in catalogue.about(about) if (one.derived or one.stores) and one.id != without}
    return Vocabulary(
        {**own, **{key: one for key, one in words_about_people(catalogue).fields.items() if key not in own}}
    )


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

    def expression(self, words: Vocabulary) -> str:
        """The text of the complete clauses; "" where there are none."""
        clauses = tuple(_clause(draft) for draft in self.drafts if draft.complete)
        if not clauses:
            return ""
        return print_expression(sentence_to_tree(Sentence(self.joiner, clauses), words.names))

    @property
    def complete(self) -> bool:
        return all(draft.complete for draft in self.drafts)


def _clause(draft: Draft) -> Clause | Quoted:
    if draft.field is None or draft.relation is None:
        return Quoted(draft.quoted)
    return Clause(draft.field.key, draft.relation.id, draft.values)


def draft_from_text(text: str, words: Vocabulary) -> SentenceDraft:
    """The sentence that a saved expression says; one that does not parse is quoted whole."""
    if not text:
        return SentenceDraft("and", ())
    tree = parse(text).tree
    if tree is None:
        return SentenceDraft("and", (Draft(quoted=text),))
    sentence = tree_to_sentence(tree, words.names)
    return SentenceDraft(sentence.joiner, tuple(draft_of(clause, words) for clause in sentence.clauses))


def draft_of(clause: Clause | Quoted, words: Vocabulary) -> Draft:
    """One saved clause as the editor shows it."""
    if isinstance(clause, Quoted):
        return Draft(quoted=clause.text)
    return Draft(words.fields[clause.key], RELATIONS[clause.relation], clause.values)


def read_sentence(form: PostedForm, words: Vocabulary, name: str = "") -> SentenceDraft:
    """The sentence as posted, after the button that was pressed: `add`, `remove:2`, `up:1`, `down:0`.

    `name` tells several editors of one page apart: it stands before the names of
    its inputs, and before the button's: `show_add`.
    """
    joiner: Joiner = "or" if form.one(f"{name}joiner") == "or" else "and"
    count = whole_number(form.one(f"{name}clauses")) or 0
    drafts = [_read(form, f"{name}c{place}_", words) for place in range(min(count, MOST_CLAUSES))]
    action, _, rest = form.one("action").removeprefix(name).partition(":")
    pressed = whole_number(rest)
    if form.one("action").startswith(name):
        drafts = _acted(drafts, action, -1 if pressed is None else pressed, words.offered)
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


def _read(form: PostedForm, prefix: str, words: Vocabulary) -> Draft:
    if f"{prefix}quoted" in form:
        quoted = form.one(f"{prefix}quoted")
        problems = parse(quoted).problems
        return Draft(quoted=quoted, message=problems[0].message if problems else "")
    field = words.fields.get(form.one(f"{prefix}key"))
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
