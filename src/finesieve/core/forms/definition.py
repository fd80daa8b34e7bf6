"""A form as it is stored: one versioned document."""

from collections.abc import Iterator
from decimal import Decimal
from typing import Annotated, Any, Final, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from finesieve.core.commerce.bill import Basis
from finesieve.core.commerce.shop import Offer
from finesieve.core.forms.earlier import upgraded
from finesieve.core.forms.page import Slot, rank
from finesieve.core.forms.showing import ShownAt
from finesieve.core.limits import EXPRESSION, HELP, LABEL, NOUN, OPTION, TEXT, TITLE
from finesieve.core.model.checks import Check

__all__ = [
    "AMONG",
    "EMBEDDER",
    "MOST_FILLINGS",
    "TIDYINGS",
    "Among",
    "Channel",
    "Form",
    "Item",
    "ListEffect",
    "Question",
    "Remark",
    "Repeat",
    "Section",
    "Surcharge",
    "Tidying",
]

EMBEDDER: Final = r"^https?://[A-Za-z0-9]([A-Za-z0-9.-]{0,180}[A-Za-z0-9])?(:[0-9]{1,5})?$"
"""A site, as its address begins."""
MOST_FILLINGS: Final = 50
"""How often a section is asked at most."""
Expression = Annotated[str, Field(max_length=EXPRESSION)]
Channel = Literal["sign-up", "checkout", "account"]
Tidying = Literal["spaces", "lower", "upper", "capital"]
TIDYINGS: Final[dict[str, str]] = {
    "spaces": "No spaces at the ends, single ones within",
    "lower": "Small letters",
    "upper": "Capital letters",
    "capital": "A capital letter first",
}
"""How an answer can be tidied before it is checked, in words."""


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Surcharge(_Document):
    """Money that an answer adds: any formula over the answers and the cart, or a `share` of a basis in per cent;
    between a floor and a ceiling. What is negative is a discount.

    It counts once the question is answered, or with `option` once that is chosen. Where it is `taxed`, it is by
    `tax_class`, or as the shop taxes surcharges. A discount has no rate of its own.
    """

    label: str = Field(min_length=1, max_length=LABEL)
    amount: str = Field(default="", max_length=EXPRESSION)
    share: Decimal | None = Field(default=None, ge=-100, le=1_000, decimal_places=4)
    basis: Basis = "goods_after"
    option: str = Field(default="", max_length=OPTION)
    taxed: bool = True
    tax_class: str = Field(default="", max_length=60)
    low: Decimal | None = None
    high: Decimal | None = None

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if bool(self.amount.strip()) == (self.share is not None):
            raise ValueError("Give an amount or a share.")
        return self


class ListEffect(_Document):
    """What an answer does: it puts the person on a list or, with `leave`, takes them off.

    `option` is the stored value that does so, "" any answer; of a yes or no `yes` or `no`, which an agreement left
    unticked is, too.
    """

    list_id: int
    option: str = Field(default="", max_length=200)
    leave: bool = False


class Question(_Document):
    """A place that asks for one field. Empty texts fall back to those of the field.

    It shows where `show_when` is true, and each option where its rule in
    `options_when` is. `hidden` carries a value without asking. It begins with
    what is known (unless `prefill` is off), or the address parameter named
    `parameter`, or `default`. A `passing` answer is not kept on the person: it
    stays with what was sent, and may set a house value. `shown_at` is where the answer
    shows once it is ordered, None for the usual places; `later` lets whoever ordered change it until it ships. A short
    text can be asked as a `menu` of options; with `bare` the sample text stands in the place of the label on the page.
    """

    kind: Literal["question"] = "question"
    id: str = Field(pattern=r"^q[0-9]{1,6}$")
    field_id: int
    label: str = Field(default="", max_length=TITLE)
    help: str = Field(default="", max_length=HELP)
    sample: str = Field(default="", max_length=TITLE)
    width: Literal["", "full", "half", "third"] = ""
    default: str = Field(default="", max_length=TEXT)
    required: bool | None = None
    required_when: Expression = ""
    show_when: Expression = ""
    options_when: dict[str, Expression] = Field(default_factory=dict, max_length=500)
    hidden: bool = False
    prefill: bool = True
    parameter: str = Field(default="", pattern=r"^([a-z][a-z0-9_]{0,39})?$")
    only_if_unknown: bool = False
    passing: bool = False
    tidy: tuple[Tidying, ...] = ()
    checks: tuple[Check, ...] = Field(default=(), max_length=20)
    surcharges: tuple[Surcharge, ...] = Field(default=(), max_length=10)
    lists: tuple[ListEffect, ...] = Field(default=(), max_length=20)
    shown_at: tuple[ShownAt, ...] | None = None
    later: bool = False
    menu: tuple[Annotated[str, Field(min_length=1, max_length=OPTION)], ...] = Field(default=(), max_length=200)
    bare: bool = False


class Remark(_Document):
    """A heading, or a note, between questions."""

    kind: Literal["heading", "note"]
    id: str = Field(pattern=r"^t[0-9]{1,6}$")
    text: str = Field(default="", max_length=TEXT)
    show_when: Expression = ""


Item = Annotated[Question | Remark, Field(discriminator="kind")]


AMONG: Final = ("categories", "tags", "products", "variants")
"""By what lines of a cart can be meant."""


class Among(_Document):
    """Which lines of a cart are meant: any of these products, variants, categories or tags; none named, all.

    A variant is named with its product: `raised-bed.large`.
    """

    products: tuple[str, ...] = Field(default=(), max_length=500)
    variants: tuple[str, ...] = Field(default=(), max_length=500)
    categories: tuple[str, ...] = Field(default=(), max_length=200)
    tags: tuple[str, ...] = Field(default=(), max_length=200)

    def has(self, offer: Offer) -> bool:
        """Whether what is sold is one of these."""
        product = offer.product
        if not (self.products or self.variants or self.categories or self.tags):
            return True
        return (
            product.key in self.products
            or offer.name in self.variants
            or not set(self.categories).isdisjoint(product.categories)
            or not set(self.tags).isdisjoint(product.tags)
        )


class Repeat(_Document):
    """Asking a section again and again: each filling adds or updates one record of a type.

    In a checkout, `per` asks it once for each line of the cart, or each piece, of what is meant by `among`: at most
    50 times. Else, with a `count` formula there are that many fillings; without one the person adds them, from
    `least` to `most`. `link` ties the records to the person; 0 is the first.
    """

    record_type: int
    link: int = 0
    per: Literal["", "line", "piece"] = ""
    among: Among = Among()
    count: Expression = ""
    least: int = Field(default=0, ge=0, le=50)
    most: int = Field(default=10, ge=1, le=50)
    one: str = Field(default="", max_length=NOUN)

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        if self.least > self.most:
            raise ValueError("The fewest times are more than the most.")
        if self.per and self.count:
            raise ValueError("Ask it per line or piece, or as often as a formula says, not both.")
        return self


class Section(_Document):
    """A titled part of a form; in a sign-up of steps, one step. In a checkout it lies in a `slot` of the page."""

    id: str = Field(pattern=r"^s[0-9]{1,6}$")
    title: str = Field(default="", max_length=TITLE)
    intro: str = Field(default="", max_length=TEXT)
    show_when: Expression = ""
    slot: Slot = ""
    repeat: Repeat | None = None
    items: tuple[Item, ...] = Field(default=(), max_length=500)

    @property
    def questions(self) -> tuple[Question, ...]:
        return tuple(item for item in self.items if isinstance(item, Question))

    def walk_rules(self) -> Iterator[tuple[str, str, str]]:
        """Every expression of the section; see `Form.walk_rules`."""
        if self.show_when:
            yield self.id, "show_when", self.show_when
        if self.repeat and self.repeat.count:
            yield self.id, "count", self.repeat.count
        for item in self.items:
            yield from _rules_of(item)


class Form(_Document):
    """The sections of a form in order, and its texts.

    `languages` are those it can be filled in in; the first is the one it is
    written in, `tell` is the address that a message about each order goes to, `account` whether a checkout opens an
    account for whoever orders (where they wish it, or always), `title_known` and `send_known` stand in for title and
    button where a known person changes what is kept of them, and `phrases` gives, for each other one, its
    texts by ours. `joins` are the ids of the lists that whoever sends it is put on. A form of the `channel` checkout
    asks about the order, too, and its rules read the cart; its
    sections are in the order of the page that they lie on. One of the channel account is how people who are signed in
    see and change what is kept of them. `embed_on` are the sites (`https://example.org`) that may show a sign-up within
    pages of their own.
    """

    title: str = Field(min_length=1, max_length=TITLE)
    intro: str = Field(default="", max_length=TEXT)
    send_label: str = Field(default="Send", min_length=1, max_length=60)
    thanks: str = Field(default="Thank you. Your answers have arrived.", max_length=TEXT)
    title_known: str = Field(default="", max_length=TITLE)
    send_known: str = Field(default="", max_length=60)
    channel: Channel = "sign-up"
    stepped: bool = False
    challenge: bool = False
    tell: str = Field(default="", max_length=254)
    account: Literal["", "offered", "required"] = ""
    embed_on: tuple[Annotated[str, Field(pattern=EMBEDDER, max_length=200)], ...] = Field(default=(), max_length=20)
    joins: tuple[int, ...] = Field(default=(), max_length=50)
    languages: tuple[Annotated[str, Field(pattern=r"^[a-z]{2,3}$")], ...] = Field(default=("en",), max_length=12)
    phrases: dict[str, dict[str, str]] = Field(default_factory=dict)
    sections: tuple[Section, ...] = Field(default=(), max_length=100)

    @model_validator(mode="before")
    @classmethod
    def _of_now(cls, document: Any) -> Any:
        return upgraded(document) if isinstance(document, dict) else document

    @field_validator("sections")
    @classmethod
    def _as_on_the_page(cls, sections: tuple[Section, ...]) -> tuple[Section, ...]:
        return tuple(sorted(sections, key=lambda section: rank(section.slot)))

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        if self.channel != "checkout" and any(section.slot for section in self.sections):
            raise ValueError("Only a checkout has slots.")
        if any(one.slot == "by_line" and not (one.repeat and one.repeat.per) for one in self.sections):
            raise ValueError("By each line lies only what is asked for each line or piece.")
        ids = [section.id for section in self.sections]
        ids += [item.id for section in self.sections for item in section.items]
        if len(set(ids)) != len(ids):
            raise ValueError("Two questions have the same id.")
        if len({(question.field_id) for question in self.questions}) != len(self.questions):
            raise ValueError("Two questions have the same field.")
        if not self.languages or len(set(self.languages)) != len(self.languages):
            raise ValueError("Name each language once, the form’s own first.")
        return self

    @property
    def questions(self) -> tuple[Question, ...]:
        """All questions, those of repeated sections too, in order."""
        return tuple(question for section in self.sections for question in section.questions)

    def question(self, question_id: str) -> Question | None:
        """The question with this id, or None."""
        return next((question for question in self.questions if question.id == question_id), None)

    def section(self, section_id: str) -> Section | None:
        """The section with this id, or None."""
        return next((section for section in self.sections if section.id == section_id), None)

    def item(self, item_id: str) -> Question | Remark | None:
        """The question or remark with this id, or None."""
        return next((item for section in self.sections for item in section.items if item.id == item_id), None)

    def section_of(self, item_id: str) -> Section | None:
        """The section that an item stands in, or None."""
        return next((one for one in self.sections if any(item.id == item_id for item in one.items)), None)

    def next_id(self, letter: Literal["q", "t", "s"] = "q") -> str:
        """An id that nothing has had in this document: of a question, a remark, a section."""
        ids = [section.id for section in self.sections]
        ids += [item.id for section in self.sections for item in section.items]
        return f"{letter}{max((int(one[1:]) for one in ids if one[0] == letter), default=0) + 1}"

    def walk_texts(self) -> Iterator[str]:
        """The form's own texts that people read, in order, with repetitions."""
        return (text for _, _, text in self.walk_placed_texts())

    def walk_placed_texts(self) -> Iterator[tuple[str, "Section | None", str]]:
        """The same texts with the id of the section or item that each stands at, "" for the form's own.

        The placeholders of most name what the whole form knows; those of the labels of surcharges what is known within
        the section that is given with them.
        """
        for text in (self.title, self.intro, self.send_label, self.thanks, self.title_known, self.send_known):
            yield "", None, text
        for section in self.sections:
            for text in (section.title, section.intro, *((section.repeat.one,) if section.repeat else ())):
                yield section.id, None, text
            for item in section.items:
                for text in _texts_of(item):
                    yield item.id, None, text
                for surcharge in () if isinstance(item, Remark) else item.surcharges:
                    yield item.id, section, surcharge.label

    def walk_rules(self) -> Iterator[tuple[str, str, str]]:
        """Every expression of the form: the id of the section or item it stands at, what it is, its text.

        What it is: show_when, required_when, count, `option:north`, `check:0`, `surcharge:0`.
        """
        for section in self.sections:
            yield from section.walk_rules()


def _texts_of(item: Question | Remark) -> tuple[str, ...]:
    if isinstance(item, Remark):
        return (item.text,)
    return (item.label, item.help, item.sample, *item.menu, *(check.message for check in item.checks))


def _rules_of(item: Question | Remark) -> Iterator[tuple[str, str, str]]:
    if item.show_when:
        yield item.id, "show_when", item.show_when
    if isinstance(item, Remark):
        return
    if item.required_when:
        yield item.id, "required_when", item.required_when
    for option, rule in item.options_when.items():
        if rule:
            yield item.id, f"option:{option}", rule
    for place, check in enumerate(item.checks):
        if check.kind == "condition":
            yield item.id, f"check:{place}", check.expression
    for place, surcharge in enumerate(item.surcharges):
        if surcharge.amount:
            yield item.id, f"surcharge:{place}", surcharge.amount
