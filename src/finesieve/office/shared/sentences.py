"""The sentence editor: from a posted form to clauses, and what each word of a clause may become."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Final, get_args

from finesieve.core.commerce.facts import ORDERS, STATES
from finesieve.core.fields.about import ORDER, PERSON, SIFTING, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.language.relations import RELATIONS, SPANS, Relation, relations_for
from finesieve.core.language.sentence import (
    EITHER,
    MEASURES,
    Clause,
    Collected,
    Joiner,
    Measure,
    Names,
    Part,
    Quoted,
    Sentence,
    sentence_to_tree,
    tree_to_sentence,
)
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import Type, day_written
from finesieve.web.posted import PostedForm, whole_number

__all__ = [
    "Draft",
    "GroupDraft",
    "PartDraft",
    "Records",
    "RecordsDraft",
    "SentenceDraft",
    "Vocabulary",
    "being_chosen",
    "draft_from_text",
    "draft_of",
    "plain_words",
    "read_sentence",
    "words_about_orders",
    "words_about_people",
    "words_of_records",
    "words_of_segments",
]

MOST_CLAUSES: Final = 50
_DEEPEST: Final = 3
"""Groups within groups that the editor offers; deeper ones are shown, and stay."""
_NUMBERS: Final = Field(0, "", "", "number", 0)


@dataclass(frozen=True)
class Vocabulary:
    """What a sentence may speak of: fields by key, in the order offered; records by the name of their collection.

    `where` says where it stands, as the address of its words wants it; `groups` are the names of groups by id. With
    `parameters` any address parameter can be named in passing. `past` are the fields of which it can be said what they
    were.
    """

    fields: Mapping[str, Field]
    where: str = "about=person"
    records: Mapping[str, "Records"] = field(default_factory=dict)
    groups: Mapping[int, str] = field(default_factory=dict)
    parameters: bool = False
    past: frozenset[str] = frozenset()

    @cached_property
    def held(self) -> tuple[Field, ...]:
        """What is held and can be chosen besides: the level, the role."""
        return tuple(self.fields[key] for key in ("level", "role") if f"form.{key}" in self.fields)

    @cached_property
    def names(self) -> Names:
        records = {key: known.words.names.fields for key, known in self.records.items()}
        return Names({key: field.value_type for key, field in self.fields.items()}, records, self.past)

    @cached_property
    def offered(self) -> tuple[Field, ...]:
        return tuple(one for one in self.fields.values() if one.id or one.options or "." in one.key)


@dataclass(frozen=True)
class Records:
    """A person's records of one kind, as a sentence may speak of them."""

    label: str
    words: Vocabulary

    @cached_property
    def columns(self) -> tuple[Field, ...]:
        """The fields that can be added up or compared."""
        return tuple(one for one in self.words.fields.values() if one.value_type.kind in ("number", "money", "date"))


def words_about_people(catalogue: Catalogue, *, without: int = 0) -> Vocabulary:
    """The fields of a person, and their level, tags and lists, and their records; but for the field of this id."""
    sound = (one for one in catalogue.fields if one.key not in catalogue.broken and (one.derived or one.stores))
    found = {one.name: one.as_called for one in sound if one.id != without}
    for key, label, held in (
        ("level", "Level", [(one.key, one.name) for one in catalogue.levels]),
        ("tags", "Tags", [(tag, tag) for tag in catalogue.tags]),
        ("lists", "Lists", [(one.key, one.name) for one in catalogue.lists]),
    ):
        options = tuple(Option(name, value) for value, name in held)
        found[key] = Field(0, key, label, "progress" if key == "level" else "choices", 0, options=options)
    records = {
        key: Records(link.back_name, Vocabulary(_own_words(catalogue, record_about(link.record_type_id))))
        for key, link in catalogue.collections_of(PERSON).items()
    }
    if catalogue.shop is not None and ORDERS not in records:
        records[ORDERS] = Records("Orders", Vocabulary(_order_words(catalogue)))
    return Vocabulary(found, records=records, groups={one.id: one.name for one in catalogue.all_groups})


def words_of_segments(catalogue: Catalogue, own: str = "") -> Vocabulary:
    """What the condition of a segment may speak of: people, and being in other segments."""
    found = words_about_people(catalogue)
    known = catalogue.world(SIFTING).prefixes["segment"] or {}
    segments = {
        f"segment.{one.key}": Field(0, f"segment.{one.key}", f"Being in “{one.name}”", "yes_no", 0)
        for one in catalogue.segments
        if one.key in known and one.key != own and own not in catalogue.segments_below(one.expression)
    }
    past = catalogue.spoken.past & found.fields.keys()
    return replace(found, fields={**found.fields, **segments}, where="about=sifting", past=past)


def being_chosen(fields: Mapping[str, Field], asked: Iterable[Field]) -> dict[str, Field]:
    """The fields that a sentence may speak of, where these (level, role) are being chosen besides being held."""
    found = dict(fields)
    for one in asked:
        name, either = f"form.{one.key}", f"{one.key}|form.{one.key}"
        found[one.key] = replace(found.get(one.key, one), label=f"{one.label} they hold")
        found[name] = replace(one, id=0, key=name, label=f"{one.label} they are choosing", built_in=False)
        found[either] = replace(one, id=0, key=either, label=f"{one.label} they hold or are choosing", built_in=False)
    return found


def words_about_orders(catalogue: Catalogue) -> Vocabulary:
    """What is known of every order, and the fields that the house keeps of it."""
    return Vocabulary(_order_words(catalogue), where="about=order")


def _order_words(catalogue: Catalogue) -> dict[str, Field]:
    found = {}
    for key, label, type_key in (
        ("number", "Number", "number"), ("placed_at", "Placed", "datetime"), ("state", "State", "choice"),
        ("total", "Total", "money"),
    ):  # fmt: skip
        options = tuple(Option(words, state) for state, words in STATES.items()) if key == "state" else ()
        found[key] = Field(0, key, label, type_key, 0, options=options)
    return {**found, **_own_words(catalogue, ORDER)}


def _own_words(catalogue: Catalogue, about: str) -> dict[str, Field]:
    broken = catalogue.broken_by_about.get(about, frozenset())
    sound = (one for one in catalogue.fields_about(about) if one.key not in broken and (one.derived or one.stores))
    return {one.name: one.as_called for one in sound}


def words_of_records(catalogue: Catalogue, about: str, *, without: int = 0) -> Vocabulary:
    """The fields of a record first, then those of its person."""
    own = {key: one for key, one in _own_words(catalogue, about).items() if one.id != without}
    people = words_about_people(catalogue)
    rest = {key: one for key, one in people.fields.items() if key not in own}
    return replace(people, fields={**own, **rest}, records={})


# Drafts -----------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Draft:
    """One clause as it stands in the editor; it may lack a value yet.

    `quoted` is a formula that the sentence cannot say, and then all there is. `past` tells that its past is in reach.
    """

    field: Field | None = None
    relation: Relation | None = None
    values: tuple[str, ...] = ()
    quoted: str = ""
    message: str = ""
    past: bool = False

    @property
    def shape(self) -> str:
        return "field" if self.field else "quoted"

    @property
    def mark(self) -> str:
        """What tells it from what else may stand in its place."""
        return f"{self.field.key}-{self.relation.takes}" if self.field and self.relation else "quoted"

    @property
    def complete(self) -> bool:
        return not self.message

    @property
    def choices(self) -> tuple[tuple[str, str], ...]:
        """The relations offered for the field: (id, words)."""
        if self.field is None:
            return ()
        either = "|" in self.field.key
        return tuple(
            pair for pair in _choices(self.field.value_type, past=self.past) if not either or pair[0] in EITHER
        )

    @property
    def words(self) -> str:
        """The relation in words."""
        assert self.field is not None and self.relation is not None
        return self.relation.said(self.field.value_type)

    @property
    def shown(self) -> str:
        """The values in words: `North, Hill`, `30 m²`, `1 and 5`, `30 days`."""
        return _values_in_words(self.field, self.relation, self.values) if self.field and self.relation else ""

    def value(self, place: int) -> str:
        """The value at a place; "" where there is none yet."""
        return self.values[place] if place < len(self.values) else ""

    def part(self) -> Part | None:
        if self.message:
            return None
        if self.field is None or self.relation is None:
            return Quoted(self.quoted)
        return Clause(self.field.key, self.relation.id, self.values)


@dataclass(frozen=True, slots=True)
class GroupDraft:
    """Conditions that stand together: all, any or none of them."""

    sentence: "SentenceDraft"
    shape: str = "group"
    mark: str = "group"
    message: str = ""

    @property
    def complete(self) -> bool:
        return self.sentence.complete and bool(self.sentence.drafts)

    def part(self) -> Part | None:
        return self.sentence.part()


@dataclass(frozen=True, slots=True)
class RecordsDraft:
    """What is said of a person's records; it may lack a word yet."""

    collection: str
    records: Records
    measure: Measure
    sentence: "SentenceDraft"
    column: Field | None = None
    relation: Relation | None = None
    values: tuple[str, ...] = ()
    message: str = ""
    shape: str = "records"

    @property
    def key(self) -> str:
        """What stands for it in the menu of fields."""
        return f"{self.collection}()"

    @property
    def mark(self) -> str:
        """What tells it from what else may stand in its place."""
        return f"{self.collection}-{self.measure}"

    @property
    def compares(self) -> bool:
        """Whether it is a number that is compared."""
        return self.measure not in ("any", "no", "all")

    @property
    def complete(self) -> bool:
        return not self.message and self.sentence.complete and self.part() is not None

    @property
    def field(self) -> Field:
        """As what its number is compared."""
        return _NUMBERS if self.measure == "count" or self.column is None else self.column

    @property
    def choices(self) -> tuple[tuple[str, str], ...]:
        plain = ("=", "!=", ">", ">=", "<", "<=", "between")
        return tuple(pair for pair in _choices(self.field.value_type) if pair[0] in plain)

    @property
    def words(self) -> str:
        return self.relation.said(self.field.value_type) if self.relation else ""

    @property
    def shown(self) -> str:
        return _values_in_words(self.field, self.relation, self.values) if self.relation else ""

    def value(self, place: int) -> str:
        return self.values[place] if place < len(self.values) else ""

    def part(self) -> Part | None:
        if self.message:
            return None
        where = self.sentence.part()
        if not self.compares:
            return Collected(self.collection, self.measure, where) if where is not None else None
        column = self.column.key if self.column is not None and self.measure != "count" else ""
        relation = self.relation.id if self.relation else ""
        return Collected(self.collection, self.measure, where, column, relation, self.values)


PartDraft = Draft | GroupDraft | RecordsDraft


@dataclass(frozen=True, slots=True)
class SentenceDraft:
    """A sentence in the editor."""

    joiner: Joiner
    drafts: tuple[PartDraft, ...]

    def part(self) -> Sentence | None:
        """The sentence of its complete clauses; None where there are none."""
        found = tuple(part for draft in self.drafts if (part := draft.part()) is not None)
        return Sentence(self.joiner, found) if found else None

    def expression(self, words: Vocabulary) -> str:
        """The text of the complete clauses; "" where there are none."""
        sentence = self.part()
        return print_expression(sentence_to_tree(sentence, words.names)) if sentence is not None else ""

    @property
    def complete(self) -> bool:
        return all(draft.complete for draft in self.drafts)


def _choices(type_: Type, *, past: bool = False) -> tuple[tuple[str, str], ...]:
    offered = relations_for(type_, past=past)
    return tuple((one.id, f"{one.said(type_)} … {one.after}".removesuffix(" … ")) for one in offered)


def _values_in_words(known: Field, relation: Relation, values: Sequence[str]) -> str:
    if relation.takes == "span":
        return f"{' '.join(values)} {relation.after}".strip()
    labels = [known.label_of(value) if known.options else value for value in values]
    joined = (f" {relation.between} " if relation.takes in ("two", "numbers", "one on") else ", ").join(labels)
    if relation.takes in ("number", "numbers"):
        return f"{joined} {relation.after}".strip()
    if relation.takes in ("day", "one on"):
        return joined
    return f"{joined} {known.unit}" if known.unit and joined else joined


def plain_words(draft: PartDraft) -> str:
    """A condition in words without marks: `Zone is North`, `any of (…)`, `Plots: any are such that …`."""
    if isinstance(draft, GroupDraft):
        said = f"{_JOINED[draft.sentence.joiner]}: "
        return said + "; ".join(plain_words(one) for one in draft.sentence.drafts)
    if isinstance(draft, RecordsDraft):
        measure = f"{draft.records.label}: {MEASURES[draft.measure]}"
        column = draft.column.label if draft.column and draft.measure != "count" else ""
        compared = f"{draft.words} {draft.shown}" if draft.compares else ""
        joiner = " or " if draft.sentence.joiner == "or" else " and "
        where = joiner.join(plain_words(one) for one in draft.sentence.drafts)
        where = f"where {where}" if where and draft.compares else where
        return " ".join(part for part in (measure, column, where, compared) if part)
    if draft.field is None:
        return " ".join(draft.quoted.split())
    return f"{draft.field.label} {draft.words} {draft.shown}".strip()


_JOINED: Final[Mapping[Joiner, str]] = {"and": "all of", "or": "any of", "none": "none of"}


# From what is stored --------------------------------------------------------------------------------


def draft_from_text(text: str, words: Vocabulary) -> SentenceDraft:
    """The sentence that a saved expression says; one that does not parse is quoted whole."""
    if not text:
        return SentenceDraft("and", ())
    tree = parse(text).tree
    if tree is None:
        return SentenceDraft("and", (Draft(quoted=text),))
    return _sentence_draft(tree_to_sentence(tree, words.names), words)


def _sentence_draft(sentence: Sentence | None, words: Vocabulary) -> SentenceDraft:
    if sentence is None:
        return SentenceDraft("and", ())
    return SentenceDraft(sentence.joiner, tuple(draft_of(clause, words) for clause in sentence.clauses))


def draft_of(clause: Part, words: Vocabulary) -> PartDraft:
    """One saved condition as the editor shows it."""
    if isinstance(clause, Quoted):
        return Draft(quoted=clause.text)
    if isinstance(clause, Sentence):
        return GroupDraft(_sentence_draft(clause, words))
    if isinstance(clause, Clause):
        past = clause.key in words.past
        return Draft(words.fields[clause.key], RELATIONS[clause.relation], clause.values, past=past)
    records = words.records[clause.collection]
    return RecordsDraft(
        clause.collection,
        records,
        clause.measure,
        _sentence_draft(clause.where, records.words),
        records.words.fields.get(clause.column),
        RELATIONS.get(clause.relation),
        clause.values,
    )


# From a post -----------------------------------------------------------------------------------------


def read_sentence(form: PostedForm, words: Vocabulary, name: str = "", depth: int = 0) -> SentenceDraft:
    """The sentence as posted, after what was done: `add`, `group`, `remove:2`, `up:1`, `down:0`, `move:2:0`.

    `name` tells several editors of one page apart: it stands before the names of
    its inputs, and before the button's: `show_add`. That of a group is `show_c2_g_`.
    """
    joiner: Joiner = form.text(f"{name}joiner") if form.text(f"{name}joiner") in ("or", "none") else "and"  # type: ignore[assignment]  # one of the three
    count = whole_number(form.text(f"{name}clauses")) or 0
    drafts = [_read(form, f"{name}c{place}_", words, depth) for place in range(min(count, MOST_CLAUSES))]
    action, _, rest = form.text("action").removeprefix(name).partition(":")
    pressed, _, onto = rest.partition(":")
    if form.text("action").startswith(name):
        drafts = _acted(drafts, action, _place(pressed), words, _place(onto))
    return SentenceDraft(joiner, tuple(drafts))


def _place(text: str) -> int:
    number = whole_number(text)
    return -1 if number is None else number


def _acted(drafts: list[PartDraft], action: str, place: int, words: Vocabulary, onto: int) -> list[PartDraft]:
    if action in ("add", "group") and words.offered and len(drafts) < MOST_CLAUSES:
        first = _first(words)
        return [*drafts, first if action == "add" else GroupDraft(SentenceDraft("or", (first,)))]
    if not 0 <= place < len(drafts):
        return drafts
    if action == "remove":
        return drafts[:place] + drafts[place + 1 :]
    if action == "move" and 0 <= onto < len(drafts):
        rest = drafts[:place] + drafts[place + 1 :]
        return [*rest[:onto], drafts[place], *rest[onto:]]
    other = place + {"up": -1, "down": 1}.get(action, 0)
    if 0 <= other < len(drafts):
        drafts[place], drafts[other] = drafts[other], drafts[place]
    return drafts


def _first(words: Vocabulary) -> Draft:
    """The condition that a new one begins as."""
    known = words.offered[0]
    return _checked(Draft(known, relations_for(known.value_type)[0], past=known.key in words.past))


def _read(form: PostedForm, prefix: str, words: Vocabulary, depth: int) -> PartDraft:
    if f"{prefix}g_clauses" in form and f"{prefix}key" not in form:
        return GroupDraft(read_sentence(form, words, f"{prefix}g_", min(depth + 1, _DEEPEST)))
    if f"{prefix}quoted" in form:
        quoted = form.text(f"{prefix}quoted")
        problems = parse(quoted).problems
        return Draft(quoted=quoted, message=problems[0].message if problems else "")
    key = form.text(f"{prefix}key")
    if key.removesuffix("()") in words.records and key.endswith("()"):
        return _read_records(form, prefix, key.removesuffix("()"), words, depth)
    known = words.fields.get(key)
    if known is None:
        return Draft(quoted="", message="The field of this condition is gone; remove the condition.")
    past = known.key in words.past
    offered = [one for one in relations_for(known.value_type, past=past) if "|" not in known.key or one.id in EITHER]
    relation = next((found for found in offered if found.id == form.text(f"{prefix}relation")), offered[0])
    was = form.text(f"{prefix}was")
    values = form.texts(f"{prefix}value") if not was or _held(was) == _held(known.key) else []
    return _checked(Draft(known, relation, _fitting(values, known, relation), past=past))


def _held(key: str) -> str:
    """The level, or the role, whether held or being chosen: their values are the same."""
    return key.partition("|")[0].removeprefix("form.")


def _read_records(form: PostedForm, prefix: str, collection: str, words: Vocabulary, depth: int) -> RecordsDraft:
    records = words.records[collection]
    asked = form.text(f"{prefix}measure")
    measure: Measure = asked if asked in get_args(Measure) else "any"  # type: ignore[assignment]  # one of them
    if form.text(f"{prefix}was") != f"{collection}()":
        return RecordsDraft(collection, records, "any", SentenceDraft("and", (_first(records.words),)))
    sentence = read_sentence(form, records.words, f"{prefix}g_", min(depth + 1, _DEEPEST))
    if measure in ("any", "no", "all"):
        sentence = sentence if sentence.drafts else replace(sentence, drafts=(_first(records.words),))
        return RecordsDraft(collection, records, measure, sentence)
    column = next((one for one in records.columns if one.key == form.text(f"{prefix}column")), None)
    if measure != "count" and column is None:
        column = next(iter(records.columns), None)
    draft = RecordsDraft(collection, records, measure, sentence, column)
    relation = next((key for key, _ in draft.choices if key == form.text(f"{prefix}relation")), ">=")
    values = _fitting(form.texts(f"{prefix}value"), draft.field, RELATIONS[relation])
    return _checked_records(replace(draft, relation=RELATIONS[relation], values=values))


def _checked_records(draft: RecordsDraft) -> RecordsDraft:
    if draft.measure != "count" and draft.column is None:
        return replace(draft, message="There is nothing that can be added up or compared.")
    assert draft.relation is not None
    try:
        _try(Clause("it", draft.relation.id, draft.values), draft.field.value_type)
    except ValueError as problem:
        return replace(draft, message=str(problem))
    return draft


def _fitting(values: Iterable[str], known: Field, relation: Relation) -> tuple[str, ...]:
    """Those of the values that the relation can take; switching between *is* and *is one of* keeps them."""
    kept = [value if known.options else value.strip() for value in values]
    if relation.takes in ("number", "span", "numbers"):
        kept = [value for value in kept if value in SPANS or value.isdigit() or not value]
        if relation.takes == "span":
            number = next((value for value in kept if value not in SPANS), "")
            return number, next((value for value in kept if value in SPANS), "days")
    elif relation.takes in ("day", "one on"):
        day = next((value for value in kept[::-1] if day_written(value)), "")
        first = kept[0] if kept and (not known.options or kept[0] in known.value_type.options) else ""
        kept = [day] if relation.takes == "day" else [first, day if len(kept) > 1 else ""]
    elif known.options:
        kept = [value for value in dict.fromkeys(kept) if value in known.value_type.options]
    return tuple(kept[: relation.count[1]])


def _checked(draft: Draft) -> Draft:
    """The draft with what it lacks said."""
    assert draft.field is not None and draft.relation is not None
    try:
        _try(Clause(draft.field.key, draft.relation.id, draft.values), draft.field.value_type)
    except ValueError as problem:
        return replace(draft, message=str(problem))
    return draft


def _try(clause: Clause, type_: Type) -> None:
    sentence_to_tree(Sentence("and", (clause,)), Names({clause.key: type_}))
