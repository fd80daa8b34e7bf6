"""An open form, and what is known of the one filling-in that it is."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from typing import Final

from finesieve.core.commerce.amounts import in_currency, percent_of
from finesieve.core.commerce.bill import Bill, BillLine
from finesieve.core.commerce.cart import Cart, CartLine
from finesieve.core.commerce.shop import Method
from finesieve.core.fields.manner import PLAIN, Manner
from finesieve.core.forms.definition import Form
from finesieve.core.forms.fees import Fee
from finesieve.core.forms.outcome import Charge, Outcome, QuestionOutcome, SectionOutcome
from finesieve.core.forms.outcome import Filling as OneFilling
from finesieve.core.forms.page import STEPS, Place, Station, places
from finesieve.core.forms.wording import Wording
from finesieve.core.model.level_ends import LevelEnd
from finesieve.core.phrases import phrase
from finesieve.standins.challenge import Challenge

__all__ = ["Corrects", "Filling", "LevelCard", "OpenForm", "Sent", "Step", "Thanks", "Visit"]


@dataclass(frozen=True, slots=True)
class Visit:
    """What a browser brings when it opens a form: address parameters, languages (the most wished first), a link,
    a cart, and whether that is its `own`, so that what was answered with it may be shown; who is signed in with it, 0
    for nobody, and until when."""

    page: Mapping[str, str] = field(default_factory=dict)
    languages: tuple[str, ...] = ()
    me: str = ""
    cart: str = ""
    own: bool = False
    person: int = 0
    until: int = 0


@dataclass(frozen=True, slots=True)
class LevelCard:
    """What a membership level brings, as people read it: its fields as (label, value), and how long it is held."""

    description: str
    lines: tuple[tuple[str, str], ...]
    lasts: LevelEnd | None = None


@dataclass(frozen=True, slots=True)
class Corrects:
    """The order that an open checkout corrects, and what was charged so far, in the smallest unit."""

    order_id: int
    number: int
    was: int


_NOWHERE: Final = Station("", "", "")


@dataclass(frozen=True, slots=True)
class Step:
    """What is on one page of a form that goes step by step: the places of it, from top to bottom."""

    title: str
    places: tuple[Place[SectionOutcome], ...]

    @property
    def sections(self) -> tuple[SectionOutcome, ...]:
        return tuple(section for place in self.places for section in place.sections)


@dataclass(frozen=True)
class OpenForm:
    """A published form somebody has opened, its texts in their language.

    `token` carries the version and the key of this one filling-in; posted
    back, it makes a second sending count as the first. `unasked` names the
    questions that the answers brought up after the page was made. `challenge` is
    what tells people from robots, where the form wants that; `given` are the
    answers that came, those to questions that do not show now included. `receipt`, once it is sent, is
    the token of the page after. A checkout has a `cart`, and what it comes to, or why that cannot be told
    (`cart_problem`); `unchosen` is what is said of ways of delivery and payment that have to be chosen yet;
    `total_before` is what its page had shown, where that has changed since. `order` is the token of the order that was
    placed; `corrects` says which one staff are correcting. `person_id` is whom it is opened for, 0 for nobody known;
    `levels` are those that can be chosen on it, by their keys; `fee` is what the one chosen costs, None for nothing,
    and `renews` tells that the one held is held for longer.
    """

    house: str
    form: Form
    token: str
    outcome: Outcome
    say: Wording
    sent: bool = False
    unasked: frozenset[str] = frozenset()
    challenge: Challenge | None = None
    challenge_failed: bool = False
    known: bool = False
    manner: Manner = PLAIN
    given: Mapping[str, str] = field(default_factory=dict)
    receipt: str = ""
    cart: Cart | None = None
    bill: Bill | None = None
    cart_problem: str = ""
    unchosen: Mapping[str, str] = field(default_factory=dict)
    total_before: str = ""
    order: str = ""
    corrects: Corrects | None = None
    person_id: int = 0
    levels: Mapping[str, LevelCard] = field(default_factory=dict)
    fee: Fee | None = None
    renews: bool = False

    @property
    def more_by(self) -> int:
        """By how much a correction makes the order dearer, in the smallest unit; below 0 for cheaper."""
        return self.bill.total - self.corrects.was if self.corrects is not None and self.bill is not None else 0

    @property
    def is_checkout(self) -> bool:
        return self.form.channel == "checkout"

    @property
    def sells(self) -> bool:
        """Whether sending it charges something: for what is in a cart, or for a level."""
        return self.is_checkout or self.fee is not None or self.corrects is not None

    @property
    def total(self) -> str:
        """What is to be paid, in plain figures: a page sends it back, so that nobody pays what they have not seen."""
        return str(in_currency(self.bill.total, self.bill.decimals)) if self.bill is not None else ""

    def pieces_of(self, line: str) -> int:
        """How many pieces a line of the bill stands for, by its key."""
        lines = self.cart.lines if self.cart is not None else ()
        return next((one.quantity for number, one in enumerate(lines, 1) if line == f"line{number}"), 1)

    def cause_of(self, line: BillLine) -> str:
        """The question that a surcharge or discount comes from, by the name of its inputs, "" for any other line."""
        number = line.key.removeprefix("charge")
        return self._charges[int(number) - 1].question_id if number != line.key else ""

    @cached_property
    def _charges(self) -> tuple[Charge, ...]:
        return self.outcome.charges

    def label_of(self, line: BillLine) -> str:
        """What a line of the bill is called, in the language of the page."""
        number = line.key.removeprefix("charge")
        if number == line.key:
            return self.say(line.label)
        charge = self._charges[int(number) - 1]
        return charge.said(self.say(charge.surcharge.label))

    def percent(self, rate: Fraction) -> str:
        """A tax rate as people read it."""
        return f"{percent_of(rate)} %"

    def smallest(self, amount: int) -> str:
        """An amount in the smallest unit, as people read it."""
        return self.money(in_currency(amount, self.bill.decimals if self.bill is not None else 2))

    @property
    def language(self) -> str:
        """The locale of the house."""
        return self.manner.language

    def money(self, amount: Decimal) -> str:
        """An amount as people read it, in the currency of the house."""
        return self.manner.money(amount)

    def name_of(self, question: QuestionOutcome) -> str:
        """How a question is named away from its place: with the filling it is in, where there are several."""
        for shown in self.outcome.sections:
            if shown.section.repeat and len(shown.fillings) > 1:
                for filling in shown.fillings:
                    if question.id in [one.id for one in filling.questions]:
                        return f"{self.title_of(shown, filling)}: {question.label}"
        return question.label

    def title_of(self, shown: SectionOutcome, filling: OneFilling) -> str:
        """What stands over a filling, in the language of the page."""
        repeat, many = shown.section.repeat, len(shown.fillings)
        if repeat is None or not repeat.per or many == 1:
            return shown.title_of(filling)
        number = str(shown.fillings.index(filling) + 1)
        what = repeat.one or shown.section.title
        return self.say(phrase("{what} {number} of {many}", what=what, number=number, many=str(many)))

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        """What shows, step by step: in a sign-up each section, in a checkout the parts of its page."""
        showing = tuple(section for section in self.outcome.sections if section.shows)
        if not self.is_checkout:
            return tuple(Step(one.section.title, (Place(_NOWHERE, (one,)),)) for one in showing)
        page = places((one.section.slot, one) for one in showing)
        steps = (
            Step(title, tuple(place for place in page if place.station.step == key and self._has(place)))
            for key, title in STEPS.items()
        )
        return tuple(step for step in steps if step.places)

    def _has(self, place: Place[SectionOutcome]) -> bool:
        """Whether there is anything at a place of the page."""
        ways = self.ways.get(place.station.key)
        return bool(place.sections) or (place.station.own if ways is None else bool(ways))

    @property
    def ways(self) -> Mapping[str, tuple[Method, ...]]:
        """The ways of delivery and payment that can be chosen."""
        shop = self.cart.shop if self.cart is not None else None
        return {"delivery": shop.delivery if shop else (), "payment": shop.payment if shop else ()}

    def chosen(self, part: str) -> str:
        """The way of `delivery` or `payment` that is chosen, by its key, "" for none."""
        way = getattr(self.cart, part, None)
        return way.key if way is not None else ""

    def by_line(
        self, sections: Sequence[SectionOutcome]
    ) -> list[tuple[CartLine, list[tuple[SectionOutcome, OneFilling]]]]:
        """The lines of the cart that something is asked for, each with its fillings of these sections."""
        found = []
        cart = self.cart
        for name, line in zip(cart.names, cart.lines, strict=True) if cart is not None else ():
            of_line = [
                (shown, filling)
                for shown in sections
                for filling in shown.fillings
                if name in (filling.id, filling.id.rpartition(".")[0])
            ]
            if of_line:
                found.append((line, of_line))
        return found


@dataclass(frozen=True, slots=True)
class Thanks:
    """The page after sending. `asks_about_address`: letters went to the old address and to the new one."""

    house: str
    title: str
    text: str
    say: Wording
    asks_about_address: bool = False
    embed_on: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Sent:
    """What a browser sends: the answers, the questions that its page `asked`, the language of the page.

    `challenge` is a token and the answer to it, `total` what a checkout had shown.
    `person` is who is signed in, `account` whether they wish to have an account.
    """

    form_slug: str
    token: str
    answers: Mapping[str, str]
    asked: frozenset[str]
    language: str = ""
    challenge: tuple[str, str] = ("", "")
    total: str = ""
    methods: Mapping[str, str] | None = None
    person: int = 0
    account: bool = False


@dataclass(frozen=True, slots=True)
class Filling:
    """One filling-in, by its key; for whom and until when, where a personal link led here, `by` whom of the staff, and
    the `order` that they are correcting; `signed_in`, where it is for whoever is signed in, and as long as they are;
    `link` is the personal link by its id, and `only_missing` whether it asks only what is not known."""

    form_id: int
    version: int
    key: str
    page: Mapping[str, str] = field(default_factory=dict)
    person_id: int = 0
    until: int = 0
    cart: str = ""
    by: str = ""
    order: int = 0
    signed_in: bool = False
    link: int = 0
    only_missing: bool = False
