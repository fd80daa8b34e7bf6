"""What somebody pays for the membership level that they choose on a form."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction

from finesieve.core.commerce.bill import Entry
from finesieve.core.commerce.cart import Cart
from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.forms.definition import Form
from finesieve.core.forms.outcome import Outcome
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.names import World
from finesieve.core.language.program import Moment, Program
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue, NamedList
from finesieve.core.phrases import Phrase, phrase
from finesieve.core.values import Type, Value

__all__ = [
    "FEE",
    "RENEW",
    "CompiledFee",
    "Fee",
    "Fees",
    "check_fee",
    "compile_fees",
    "fee_of",
    "fee_problem",
    "fee_world",
    "level_chosen",
    "renews",
    "with_fee",
]

FEE = "level"
"""The key of a fee's line on a bill."""
RENEW = "renew"
"""The address parameter that says that the level held is to be held for longer."""


@dataclass(frozen=True, slots=True)
class CompiledFee:
    """A level with the programs of its fee; None for a formula that has lost its meaning."""

    level: NamedList
    tax_class: str
    costs: Program | None
    moving: Program | None


Fees = Mapping[str, CompiledFee]
"""The fees of the levels that cost something, by the keys of the levels."""


@dataclass(frozen=True, slots=True)
class Fee:
    """What a level costs this person now, in the price mode; `amount` is None where that cannot be told."""

    level: NamedList
    amount: Decimal | None
    tax_class: str
    renews: bool = False

    def label(self, say: Callable[[Phrase], str]) -> str:
        """What it is called on a bill, in a language: `Membership: Steward`."""
        return say(
            phrase("Membership renewed: {level}" if self.renews else "Membership: {level}", level=self.level.name)
        )


def fee_world(catalogue: Catalogue) -> World:
    """What a fee may read: the person as they would be, `level.` of the level held, `form.level.` of the one chosen."""
    world = catalogue.world(PERSON)
    of_levels = world.members[LEVEL].names if LEVEL in world.members else {}
    chosen: dict[str, Type] = {"level": world.base.names["level"]}
    form = {**chosen, **{f"level.{key}": type_ for key, type_ in of_levels.items()}}
    prefixes = {**world.prefixes, "form": form, "level": of_levels}
    return replace(world, prefixes=prefixes, remembered=frozenset())


def check_fee(catalogue: Catalogue, text: str) -> Checked:
    """A formula of a fee, checked; `fee_problem` says whether what it gives is a price."""
    return check(text, fee_world(catalogue), zone=catalogue.zone)


def fee_problem(catalogue: Catalogue, text: str) -> str:
    """Why a formula cannot be a fee, in one sentence; "" where it can."""
    found = check_fee(catalogue, text)
    if found.typed is None:
        return found.problems[0].message
    return "" if found.typed.type.kind in ("number", "money") else "A price is a number or an amount of money."


def compile_fees(form: Form, catalogue: Catalogue) -> Fees:
    """The fees that a form can bring about: of all levels that cost something, where it asks for one."""
    if not any(question.field_id == LEVEL_QUESTION for question in form.questions):
        return {}

    def program(text: str) -> Program | None:
        typed = check_fee(catalogue, text).typed
        return compile_python(typed) if typed is not None else None

    return {
        one.key: CompiledFee(
            one, one.fee.tax_class, program(one.fee.costs), program(one.fee.moving or one.fee.costs)
        )
        for one in catalogue.levels
        if one.fee is not None
    }  # fmt: skip


def level_chosen(outcome: Outcome) -> Value:
    """The key of the level that is chosen on a form, None for none."""
    return next(
        (one.value for one in outcome.walk() if one.field.id == LEVEL_QUESTION and one.verdict is True and one.value),
        None,
    )


def renews(catalogue: Catalogue, chosen: Value, held: Value, page: Mapping[str, str]) -> bool:
    """Whether choosing a level means to hold the same for longer: it ends, and the address says so."""
    ends = any(one.key == held and one.lasts is not None for one in catalogue.levels)
    return ends and chosen == held and bool(page.get(RENEW))


def fee_of(fees: Fees, outcome: Outcome, held: Value, moment: Moment, *, renewing: bool) -> Fee | None:
    """What the level costs that is chosen; None where nothing is to be paid, or it is held already."""
    chosen = fees.get(str(level_chosen(outcome) or ""))
    if chosen is None or (chosen.level.key == held and not renewing):
        return None
    program = chosen.moving if held and not renewing else chosen.costs
    amount = program(outcome.row, moment) if program is not None else None
    if not isinstance(amount, Decimal):
        return Fee(chosen.level, None, chosen.tax_class, renewing)
    return Fee(chosen.level, amount, chosen.tax_class, renewing) if amount > 0 else None


def with_fee(cart: Cart, fee: Fee, label: str) -> Cart:
    """A cart with a fee on its bill; rules read the goods alone."""
    assert fee.amount is not None
    return replace(cart, fee=Entry(FEE, label, "goods", Fraction(fee.amount), fee.tax_class))
