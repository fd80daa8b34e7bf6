"""The outcome of a form: what shows, what is wrong, what it costs, what would be stored.

The public page, rehearsal, cases, and later checkout and chat all draw on this one value.
"""

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from fractions import Fraction
from typing import Final, Literal

from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.forms.definition import Question, Remark, Section, Surcharge
from finesieve.core.language.program import Moment
from finesieve.core.model.checks import Check
from finesieve.core.values import Value, divide

__all__ = [
    "Because",
    "Charge",
    "CheckOutcome",
    "Filling",
    "Outcome",
    "QuestionOutcome",
    "RecordAnswer",
    "RemarkOutcome",
    "Results",
    "SectionOutcome",
    "Trouble",
]

Trouble = Literal["", "missing", "unreadable", "check", "taken"]
Because = Literal["", "rule", "section", "known", "locked", "hidden", "lists", "country"]


@dataclass(frozen=True, slots=True)
class CheckOutcome:
    """The verdict of one check: it fails only on false. `message` is what is said then."""

    check: Check
    verdict: bool | None
    message: str


@dataclass(frozen=True, slots=True)
class Charge:
    """Money that an answer adds, exact; it is rounded when it is charged. What is negative is a discount.

    `said` fills the placeholders of a text with what is known where it is charged.
    """

    question_id: str
    surcharge: Surcharge
    exact: Fraction
    said: Callable[[str], str] = field(default=str, compare=False, repr=False)

    @property
    def label(self) -> str:
        """What it is called, its placeholders filled."""
        return self.said(self.surcharge.label)

    @property
    def amount(self) -> Decimal:
        """To ten places, as formulas are."""
        return divide(Decimal(self.exact.numerator), Decimal(self.exact.denominator)) or Decimal(0)


@dataclass(frozen=True, slots=True)
class QuestionOutcome:
    """What became of one question, or of one filling of it.

    `verdict` is whether it counts: its rule and its section's are true. `because`
    says what keeps it from being asked. `raw` is what was typed (`tidied` if that
    was changed), `value` what it was read as, `offered` the options that show;
    `trouble` and `message` say what is wrong. `id` is what its inputs are named by.
    """

    id: str
    question: Question
    field: Field
    verdict: bool | None
    because: Because = ""
    raw: str = ""
    value: Value = None
    required: bool = False
    offered: tuple[Option, ...] = ()
    tidied: bool = False
    stored: Value = None
    trouble: Trouble = ""
    message: str = ""
    checks: tuple[CheckOutcome, ...] = ()
    charges: tuple[Charge, ...] = ()

    @property
    def shows(self) -> bool:
        return self.verdict is True and not self.question.hidden

    @property
    def locked(self) -> bool:
        """Whether it shows what is kept, without being asked: the person may not change it."""
        kept = self.because == "locked" and self.stored is not None
        return kept and not self.question.hidden and self.field.type.kind != "secret"

    @property
    def label(self) -> str:
        return self.question.label or self.field.label

    @property
    def help(self) -> str:
        return self.question.help or self.field.help

    @property
    def sample(self) -> str:
        return self.question.sample or self.field.settings.sample_text

    @property
    def width(self) -> str:
        return self.question.width or self.field.settings.width


@dataclass(frozen=True, slots=True)
class RemarkOutcome:
    """A heading or note, and whether it shows."""

    id: str
    remark: Remark
    verdict: bool | None

    @property
    def shows(self) -> bool:
        return self.verdict is True


@dataclass(frozen=True, slots=True)
class Filling:
    """The items of a section once; of a repeated one, for one record. `record_id` is of one there is already, `line`
    is what of the cart it is for."""

    id: str
    items: tuple[QuestionOutcome | RemarkOutcome, ...]
    record_id: int = 0
    row: Mapping[str, Value] = field(default_factory=dict, compare=False, repr=False)
    line: str = ""

    @property
    def questions(self) -> tuple[QuestionOutcome, ...]:
        return tuple(item for item in self.items if isinstance(item, QuestionOutcome))


@dataclass(frozen=True, slots=True)
class SectionOutcome:
    """A section, whether it shows, and its fillings: exactly one where it does not repeat.

    Asked per line or piece, it would be asked `beyond` times more were there no end to it, and has answers to
    `surplus` pieces that are not in the cart any more.
    """

    section: Section
    verdict: bool | None
    fillings: tuple[Filling, ...]
    counted: bool = False
    link: int = 0
    beyond: int = 0
    surplus: int = 0

    @property
    def shows(self) -> bool:
        return self.verdict is True and (
            self._repeats_here or any(_stands(item) for filling in self.fillings for item in filling.items)
        )

    @property
    def _repeats_here(self) -> bool:
        """A section that repeats shows even while it is empty, but for one per piece without a piece."""
        repeat = self.section.repeat
        return repeat is not None and (not repeat.per or bool(self.fillings) or self.surplus > 0)

    def title_of(self, filling: Filling) -> str:
        """What stands over a filling: `Plaque 2 of 3`."""
        repeat, many = self.section.repeat, len(self.fillings)
        word = (repeat.one if repeat else "") or self.section.title
        number = self.fillings.index(filling) + 1
        if repeat is not None and repeat.per:
            return f"{word} {number} of {many}" if many > 1 else word
        return f"{word} {number}" if many > 1 or not self.counted else word

    @property
    def may_add(self) -> bool:
        """Whether the person may add a filling."""
        repeat = self.section.repeat
        return repeat is not None and not self.counted and len(self.fillings) < repeat.most

    @property
    def may_remove(self) -> bool:
        """Whether the person may take a filling away again."""
        repeat = self.section.repeat
        return repeat is not None and not self.counted and len(self.fillings) > repeat.least


def _stands(item: QuestionOutcome | RemarkOutcome) -> bool:
    return item.shows or (isinstance(item, QuestionOutcome) and item.locked)


@dataclass(frozen=True, slots=True)
class RecordAnswer:
    """A record that sending would add, or change where it has an id. `title` and `line` say which filling gave it:
    `Plaque 2 of 3`, and what of the cart that is for; `place` names it within the form: `s3.raised-bed.1`."""

    record_type: int
    link: int
    record_id: int
    values: Mapping[str, Value]
    title: str = ""
    line: str = ""
    place: str = ""


@dataclass(frozen=True, slots=True)
class Results:
    """What sending would store: values by key, per what they are about (one person, one order, the house); records.

    `passing` are answers about the person that are not kept there.
    """

    values: Mapping[str, Mapping[str, Value]] = field(default_factory=dict)
    records: tuple[RecordAnswer, ...] = ()
    passing: Mapping[str, Value] = field(default_factory=dict)

    @property
    def answers(self) -> dict[str, Value]:
        """What was answered about the person, kept there or not."""
        return {**self.of(PERSON), **self.passing}

    def of(self, about: str) -> dict[str, Value]:
        """The values about this; none where nothing would be stored of it."""
        return dict(self.values.get(about, {}))

    def also(self, about: str, more: Mapping[str, Value]) -> "Results":
        """The same with more values about this."""
        return replace(self, values={**self.values, about: self.of(about) | dict(more)}) if more else self


@dataclass(frozen=True, slots=True)
class Outcome:
    """All sections in the order of the form. `row` is what the rules saw, at the moment `moment`."""

    sections: tuple[SectionOutcome, ...]
    row: Mapping[str, Value] = field(default_factory=dict, compare=False, repr=False)
    moment: Moment | None = field(default=None, compare=False, repr=False)
    known: bool = False

    def walk(self) -> Iterator[QuestionOutcome]:
        """Every question of every filling, in order."""
        for section in self.sections:
            for filling in section.fillings:
                yield from filling.questions

    @property
    def questions(self) -> tuple[QuestionOutcome, ...]:
        return tuple(self.walk())

    @property
    def showing(self) -> tuple[QuestionOutcome, ...]:
        return tuple(question for question in self.walk() if question.shows)

    @property
    def troubles(self) -> tuple[QuestionOutcome, ...]:
        return tuple(question for question in self.walk() if question.trouble)

    @property
    def charges(self) -> tuple[Charge, ...]:
        return tuple(charge for question in self.walk() for charge in question.charges)

    @property
    def total(self) -> Decimal:
        """The sum of all charges."""
        return sum((charge.amount for charge in self.charges), Decimal(0))

    def of(self, question_id: str) -> QuestionOutcome | None:
        """The outcome of a question by the name of its inputs, or None."""
        return next((one for one in self.walk() if one.id == question_id), None)

    def change(self, change: Callable[[QuestionOutcome], QuestionOutcome]) -> "Outcome":
        """The same with every question passed through a function."""
        return replace(self, sections=tuple(_changed(section, change) for section in self.sections))

    def taken(self, keys: Collection[str]) -> "Outcome":
        """The same, saying that somebody else has the values of these fields already."""

        def one(question: QuestionOutcome) -> QuestionOutcome:
            if not question.shows or question.field.key not in keys:
                return question
            own = next((check.message for check in question.checks if check.check.kind == "unique"), "")
            return replace(question, trouble="taken", message=own or TAKEN)

        return self.change(one)

    def results(self, sets: Mapping[str, str] | None = None) -> Results:
        """What sending would store: the answers to questions that count.

        An answer left blank stores nothing, but for a known person, who makes blank what they empty. `sets` are house
        values that answers set as well: the key of the answer, the key of the house value.
        """
        values: dict[str, dict[str, Value]] = {}
        passing: dict[str, Value] = {}
        for section in self.sections:
            for one, value in () if section.section.repeat else _kept(section.fillings[0].questions, self.known):
                kept = passing if one.question.passing else values.setdefault(one.field.about, {})
                kept[one.field.key] = value
        given = {**values.get(PERSON, {}), **passing}
        house = {key: given[answer] for answer, key in (sets or {}).items() if given.get(answer) is not None}
        if house:
            values[HOUSE] = values.get(HOUSE, {}) | house
        return Results(values, self._records(), passing)

    def _records(self) -> tuple[RecordAnswer, ...]:
        """The records that sending would add or change; a filling left empty adds none."""
        found = []
        for section in self.sections:
            repeat = section.section.repeat
            for filling in section.fillings if repeat else ():
                kept = _kept(filling.questions, known=bool(filling.record_id))
                values = {one.field.key: value for one, value in kept}
                if repeat and any(value is not None for value in values.values()):
                    title = section.title_of(filling)
                    place = f"{section.section.id}.{filling.id}"
                    about = (repeat.record_type, section.link, filling.record_id)
                    found.append(RecordAnswer(*about, values, title, filling.line, place))
        return tuple(found)


TAKEN: Final = "This is taken already. Please choose another."


def _changed(section: SectionOutcome, change: Callable[[QuestionOutcome], QuestionOutcome]) -> SectionOutcome:
    def filled(filling: Filling) -> Filling:
        items = tuple(change(item) if isinstance(item, QuestionOutcome) else item for item in filling.items)
        return replace(filling, items=items)

    return replace(section, fillings=tuple(filled(filling) for filling in section.fillings))


def _kept(questions: tuple[QuestionOutcome, ...], known: bool) -> Iterator[tuple[QuestionOutcome, Value]]:
    for one in questions:
        if one.verdict is not True or one.trouble or not one.field.stores:
            continue
        emptied = known and one.shows and one.stored is not None and one.field.type.kind not in ("file", "secret")
        if one.value is not None or emptied:
            yield one, one.value
