"""A form tried by a file alone: a situation in, what shows, is wrong, is charged and would be stored out."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from decimal import Decimal
from functools import lru_cache
from typing import Annotated, Any, Final, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError
from pydantic.json_schema import models_json_schema

from finesieve.core.commerce.amounts import in_currency, percent_of
from finesieve.core.commerce.bill import Bill, BillLine, NoRate, TaxLine
from finesieve.core.commerce.cart import MOST_LINES, MOST_PIECES, Cart, CartLine
from finesieve.core.commerce.facts import ORDER_FACTS, ORDERS
from finesieve.core.commerce.shop import Place
from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, record_about
from finesieve.core.fields.built_in import BUILT_IN_BY_KEY
from finesieve.core.fields.definition import Field as Fact
from finesieve.core.fields.definition import Shelf
from finesieve.core.fields.encoding import Json, from_json, to_json
from finesieve.core.fields.manner import PLAIN, Titles
from finesieve.core.forms.billing import bill_of
from finesieve.core.forms.changing import locked_keys
from finesieve.core.forms.definition import Form, Section
from finesieve.core.forms.evaluate import PreparedForm, prepare
from finesieve.core.forms.fees import Fee, fee_of, level_chosen, renews, with_fee
from finesieve.core.forms.joining import joining_of
from finesieve.core.forms.outcome import Outcome, QuestionOutcome, SectionOutcome
from finesieve.core.forms.problems import form_problems
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.wording import Wording, worded, wording_of
from finesieve.core.language.program import Moment
from finesieve.core.setup.document import Setup
from finesieve.core.setup.schema import DIALECT
from finesieve.core.setup.workspace import SetupWorkspace, workspace_of
from finesieve.core.values import StoredFile, Value, sound_text

__all__ = [
    "FormTrial",
    "SentFile",
    "StoredRecord",
    "Stores",
    "TrialBillLine",
    "TrialCart",
    "TrialCase",
    "TrialCharge",
    "TrialLine",
    "TrialProblem",
    "TrialResult",
    "TrialTax",
    "documented",
    "read_case",
]

RECORD: Final = "$record"
"""In a filling: which of the person's records it is, counted from 1; without it the filling is a new one."""
_MOST_PARAMETERS: Final = 20


def _typed(given: Any) -> Any:
    """An answer as typed: several ticks a line each, a number or a yes as one would write it."""
    if isinstance(given, bool):
        return "yes" if given else "no"
    if isinstance(given, list) and all(isinstance(one, str) for one in given):
        return "\n".join(given)
    return str(given) if isinstance(given, int | Decimal) else given


Answer = Annotated[str, BeforeValidator(_typed, json_schema_input_type=str | list[str] | Decimal | bool)]


class _Given(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class SentFile(_Given):
    """A file that was sent with an answer."""

    name: str
    media_type: str
    size: int = 1
    width: int = 0
    height: int = 0


class TrialLine(_Given):
    """So many pieces of a product, in one of its variants where it has any.

    `answers` are what is asked of this line, by key; a list answers its pieces one by one, one alone all alike.
    """

    product: str
    variant: str = ""
    quantity: int = Field(ge=1, le=MOST_PIECES)
    answers: dict[str, Answer | SentFile | None] | list[dict[str, Answer | SentFile | None]] = Field(
        default_factory=dict
    )


class TrialCart(_Given):
    """What is bought, by the keys of the shop in the file, and where it is taxed."""

    lines: tuple[TrialLine, ...] = Field(default=(), max_length=MOST_LINES)
    delivery: str = ""
    payment: str = ""
    country: str = Field(default="", pattern=r"^([A-Z]{2})?$")
    region: str = Field(default="", max_length=10)


class TrialCase(_Given):
    """A situation in which a form is filled in, and what is answered.

    `answers` are texts as typed, by the key of the field asked; an answer that is not there begins with what is known,
    an address parameter or the default. `fillings` are those of repeated sections, by the id of the section, or by the
    name of its collection where only one section repeats over that. `person` has stored values by key, null for
    somebody new, and `records` theirs by the name of the collection, `orders` among them. `level`, `tags` and `lists`
    are what the person holds. `page` are the address parameters, `house` house values other than those of the file,
    `levels` values of levels other than those of the file, by their keys, and `cart` what is bought in a checkout.
    `role` is what the person is, as `role` in `person` would say; what is being chosen are the answers `level`, `role`.
    """

    answers: dict[str, Answer | SentFile | None] = Field(default_factory=dict)
    person: dict[str, Any] | None = None
    level: str | None = None
    role: str | None = None
    tags: tuple[str, ...] = ()
    lists: tuple[str, ...] = ()
    records: dict[str, list[dict[str, Any]]] = Field(default_factory=dict)
    fillings: dict[str, list[dict[str, Answer | SentFile | None]]] = Field(default_factory=dict)
    page: dict[str, str] = Field(default_factory=dict)
    house: dict[str, Any] = Field(default_factory=dict)
    levels: dict[str, dict[str, Any]] = Field(default_factory=dict)
    cart: TrialCart | None = None
    language: str | None = None
    now: datetime | None = None
    zone: str | None = None


class _Result(BaseModel):
    model_config = ConfigDict(frozen=True)


class TrialProblem(_Result):
    """What is wrong with an answer: `path` names the question, or the cart."""

    path: str
    code: Literal["missing", "unreadable", "check", "empty", "no_rate"]
    message: str


class TrialCharge(_Result):
    """Money that an answer adds, exact."""

    label: str
    amount: str
    question: str


class TrialBillLine(_Result):
    """One line of the bill, rounded: what it costs, what discounts take off it, and its part of the tax, for show."""

    key: str
    label: str
    kind: Literal["goods", "delivery", "payment", "surcharge", "discount"]
    amount: str
    off: str
    tax: str


class TrialTax(_Result):
    """The tax of one rate, in per cent, on what is left of its lines."""

    percent: str
    basis: str
    tax: str


class StoredRecord(_Result):
    """A record that sending would add, or change where `record` says which, counted from 1."""

    record_type: str
    collection: str
    record: int | None
    values: dict[str, Any]


class Stores(_Result):
    """What sending would store, values as `finesieve eval` writes them; nothing where the form is not taken."""

    person: dict[str, Any] = Field(default_factory=dict)
    order: dict[str, Any] = Field(default_factory=dict)
    house: dict[str, Any] = Field(default_factory=dict)
    records: tuple[StoredRecord, ...] = ()


Reason = Literal["rule", "rule_unknown", "section", "section_unknown", "known", "locked", "lists", "country", "hidden"]


class TrialResult(_Result):
    """What came of it. Questions are named by the keys of their fields, in a repeated section `s2.0.soil`.

    `hidden` says why a question is not asked: its rule, or its section's, is false or cannot be told; what it asks is
    known already, or may not be changed by the person; the person is on none of its lists; the country that is answered
    has none of it; or it is carried along without being asked (`hidden`). `taken` is whether sending would be taken,
    as far as files alone can tell: what only one person may have is not known here. With a cart, `lines` and `taxes`
    are those of the bill, and `total` is what is to be paid.
    """

    shows: tuple[str, ...]
    hidden: dict[str, Reason]
    options: dict[str, tuple[str, ...]]
    required: tuple[str, ...]
    problems: tuple[TrialProblem, ...]
    charges: tuple[TrialCharge, ...]
    lines: tuple[TrialBillLine, ...] = ()
    taxes: tuple[TrialTax, ...] = ()
    total: str
    stores: Stores
    taken: bool


def documented() -> dict[str, Any]:
    """The JSON Schema of situations and results, as it stands in docs/outcome.schema.json."""
    _, made = models_json_schema(
        [(TrialCase, "validation"), (TrialResult, "serialization")], ref_template="#/$defs/{model}"
    )
    named = {"situation": {"$ref": "#/$defs/TrialCase"}, "result": {"$ref": "#/$defs/TrialResult"}}
    return {"$schema": DIALECT, "$defs": {**named, **made["$defs"]}}


_WRONG: Final = (
    ("extra_forbidden", "a situation has no such part"), ("model_type", "this has to be an object, in braces"),
    ("dict_type", "this has to be an object, in braces"), ("list_type", "this has to be a list"),
    ("tuple_type", "this has to be a list"),
    ("datetime", "write a moment, such as 2026-05-01T12:00:00Z"), ("string_type", "this has to be a text, in quotes"),
)  # fmt: skip
"""What is said of the kinds of errors in plain words."""


def read_case(text: str) -> TrialCase:
    """A situation in JSON. Raises ValueError, with a sentence that names the place."""
    try:
        data = json.loads(text, parse_float=Decimal)
        sound_text(json.dumps(data, default=str, ensure_ascii=False).replace("\\u0000", "\x00"))
        return TrialCase.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(step) for step in first["loc"] if "[" not in str(step))
        said = next((words for kind, words in _WRONG if first["type"].startswith(kind)), first["msg"])
        raise ValueError(f"{place or 'the whole'}: {said}") from None
    except (json.JSONDecodeError, RecursionError) as problem:
        raise ValueError(f"not JSON: {problem}") from None


class FormTrial:
    """A form of a setup, to be tried in many situations."""

    def __init__(self, setup: Setup, slug: str) -> None:
        """Raises InvalidInput where the file does not hold together, has no such form, or the form has problems."""
        self._setup, self._slug = setup, slug
        self._at = lru_cache(maxsize=8)(self._made)
        form = self._at("UTC").form
        problems = form_problems(form, self._at("UTC").workspace.catalogue)
        if problems:
            first = problems[0]
            place = ".".join(part for part in (slug, first.place, first.part) if part)
            why = " ".join((first.message, *(problem.message for problem in first.problems[:1])))
            raise InvalidInput({"form": f"At {place}: {why}"})

    def _made(self, zone: str) -> "_Made":
        try:
            manner = replace(PLAIN, zone=ZoneInfo(zone))
        except (ZoneInfoNotFoundError, ValueError, OSError):
            raise InvalidInput({"zone": f"zone: No time zone is called {zone}."}) from None
        workspace = workspace_of(self._setup, manner)
        if self._slug not in workspace.forms:
            known = ", ".join(workspace.forms) or "none"
            raise InvalidInput({"form": f"There is no form “{self._slug}” in the file; there are: {known}."})
        form = workspace.forms[self._slug]
        return _Made(workspace, form, prepare(form, workspace.catalogue))

    def results(self, cases: Iterable[str], now: datetime) -> Iterator[dict[str, Any]]:
        """What comes of each situation, a JSON object each; `{"error"}` with a sentence for what is none."""
        for text in cases:
            try:
                found = self.outcome(read_case(text), now)
                # Without a bill there are no lines of one.
                without = set() if found.lines else {"lines", "taxes"}
                yield found.model_dump(mode="json", exclude=without)
            except (ValueError, InvalidInput) as problem:
                yield {"error": str(problem)}

    def outcome(self, case: TrialCase, now: datetime) -> TrialResult:
        """What comes of a situation, at a moment unless it names its own. Raises InvalidInput for what does not fit."""
        made = self._at(case.zone or "UTC")
        try:
            return _Trial(made, case, now).result()
        except ValueError as problem:
            raise InvalidInput({"situation": str(problem)}) from None


@dataclass(frozen=True)
class _Made:
    workspace: SetupWorkspace
    form: Form
    prepared: PreparedForm


class _Trial:
    """One form in one situation."""

    def __init__(self, made: _Made, case: TrialCase, now: datetime) -> None:
        self._made, self._case = made, case
        self._catalogue = made.workspace.catalogue
        self._files: dict[str, StoredFile] = {}
        self._sent_for: dict[str, int] = {}
        self._records: dict[str, tuple[tuple[int, Mapping[str, Value]], ...]] = {}
        at = case.now or now
        at = at if at.tzinfo else at.replace(tzinfo=UTC)
        moment = Moment(at, self._catalogue.zone, {}, self._catalogue.manner)
        own = self._values(HOUSE, case.house, "house")
        self._moment = replace(moment, house=made.workspace.house_at(moment, own))

    def result(self) -> TrialResult:
        wording = wording_of(self._made.form, self._case.language or "")
        situation, answers = self._situation(wording.language), self._answers()
        situation = replace(
            situation,
            shelf=Shelf(self._files, {one: Titles(found) for one, found in self._titles().items()}, self._sent_for),
        )
        outcome = worded(self._made.prepared.evaluate(answers, self._moment, situation), wording)
        named = {shown.id: name for name, shown in self._named(outcome)}
        fee = self._fee(outcome, situation)
        cart = self._charged(situation.cart, fee, wording)
        bill, wrong = self._bill(cart, fee, outcome)
        problems = (
            tuple(
                TrialProblem.model_validate({"path": named[one.id], "code": one.trouble, "message": str(one.message)})
                for one in outcome.troubles
            )
            + wrong
        )
        asked = [(name, shown) for name, shown in self._named(outcome) if shown.shows]
        return TrialResult(
            shows=tuple(name for name, _ in asked),
            hidden=dict(self._hidden(outcome)),
            options={
                name: tuple(option.stored_value for option in shown.offered)
                for name, shown in asked
                if shown.field.options
            },
            required=tuple(name for name, shown in asked if shown.required),
            problems=problems,
            charges=tuple(
                TrialCharge(label=one.label, amount=str(to_json(one.amount)), question=named[one.question_id])
                for one in outcome.charges
            ),
            lines=tuple(_billed(bill, line) for line in bill.lines) if bill is not None else (),
            taxes=tuple(_taxed(bill, one) for one in bill.taxes) if bill is not None else (),
            total=str(to_json(outcome.total if bill is None else in_currency(bill.total, bill.decimals))),
            stores=Stores() if problems else self._stores(outcome),
            taken=not problems,
        )

    def _fee(self, outcome: Outcome, situation: Situation) -> Fee | None:
        held = situation.stored.get("level")
        renewing = renews(self._catalogue, level_chosen(outcome), held, self._case.page)
        return fee_of(self._made.prepared.fees, outcome, held, self._moment, renewing=renewing)

    def _charged(self, cart: Cart | None, fee: Fee | None, wording: Wording) -> Cart | None:
        """The cart with what the level costs that is chosen; one for that alone, where nothing else is bought."""
        shop = self._catalogue.shop
        if fee is None or fee.amount is None or shop is None:
            return cart
        ways = shop.model_copy(update={"delivery": ()})
        return with_fee(cart or Cart(ways, (), None, None, shop.place(), self._moment.today), fee, fee.label(wording))

    def _bill(
        self, cart: Cart | None, fee: Fee | None, outcome: Outcome
    ) -> tuple[Bill | None, tuple[TrialProblem, ...]]:
        """What a checkout comes to, or a level that is chosen, or why that cannot be told."""
        if fee is not None and fee.amount is None:
            return None, (TrialProblem(path="level", code="unreadable", message="What it costs cannot be told."),)
        if self._made.form.channel != "checkout" and fee is None:
            return None, ()
        if cart is None or not (cart.lines or cart.fee):
            return None, (TrialProblem(path="cart", code="empty", message="There is nothing in the cart."),)
        try:
            return bill_of(cart, outcome.charges), ()
        except NoRate as problem:
            return None, (TrialProblem(path="cart", code="no_rate", message=str(problem)),)

    # The situation

    def _cart(self) -> Cart | None:
        given, shop = self._case.cart, self._catalogue.shop
        if given is None:
            return None
        if shop is None or self._made.form.channel != "checkout":
            raise ValueError("cart: only a checkout has one, and the file must have a shop")
        lines = []
        for place, line in enumerate(given.lines):
            offer = shop.offer(line.product, line.variant)
            if offer is None:
                raise ValueError(f"cart.lines.{place}: nothing in the shop is called so, or a variant has to be chosen")
            lines.append(CartLine(offer, line.quantity))
        delivery, payment = shop.way_of_delivery(given.delivery), shop.way_of_payment(given.payment)
        for name, wanted, known in (("delivery", given.delivery, delivery), ("payment", given.payment, payment)):
            if wanted and known is None:
                raise ValueError(f"cart.{name}: the shop has no such way")
        place_ = shop.place(Place(country=given.country, region=given.region))
        day = self._moment.today
        return Cart(shop, tuple(lines), delivery, payment, place_, day)

    def _situation(self, language: str) -> Situation:
        case, catalogue = self._case, self._catalogue
        stored: dict[str, Value] = {known.key: None for known in catalogue.stored}
        stored |= {"tags": tuple(sorted(set(case.tags))), "lists": self._held("lists"), "level": None}
        if case.level:
            self._known("level", case.level, {known.key for known in catalogue.levels})
            stored["level"] = case.level
        stored |= self._values(PERSON, case.person or {}, "person")
        if case.role:
            stored["role"] = self._role(case.role)
        known = case.person is not None
        for name, members in case.records.items():
            link = catalogue.collections_of(PERSON).get(name)
            if link is None and (name != ORDERS or catalogue.shop is None):
                raise ValueError(f"records.{name}: a person has no records of this name")
            about = record_about(link.record_type_id) if link is not None else ORDER
            self._records[name] = tuple(
                (number, self._values(about, member, f"records.{name}.{number - 1}"))
                for number, member in enumerate(members, 1)
            )
        page = {name: text[:200] for name, text in case.page.items() if name.isidentifier()}
        page = {**dict(list(page.items())[:_MOST_PARAMETERS]), "language": language}
        locked = locked_keys(catalogue, stored) if known else frozenset()
        return Situation(
            stored, self._records, page, None, self._cart(), known=known, locked=locked, levels=self._levels()
        )

    def _levels(self) -> Mapping[str, Mapping[str, Value]]:
        """What each level brings: by the file, and what the situation says otherwise."""
        known = {level.key for level in self._catalogue.levels}
        given = {}
        for key, values in self._case.levels.items():
            self._known("levels", key, known)
            given[key] = self._values(LEVEL, values, f"levels.{key}")
        return self._made.workspace.levels_at(self._moment, given)

    def _role(self, role: str) -> Value:
        """The role that the person holds. Where the file has roles of its own, it must be one of them."""
        known = self._catalogue.by_key["role"]
        offered = {option.stored_value for option in known.options}
        if known.options != BUILT_IN_BY_KEY["role"].options:
            self._known("role", role, offered)
        return role if role in offered else None

    def _held(self, what: str) -> tuple[str, ...]:
        for one in self._case.lists:
            self._known(what, one, {known.key for known in self._catalogue.lists})
        return tuple(sorted(set(self._case.lists)))

    def _known(self, what: str, given: str, known: set[str]) -> None:
        if given not in known:
            raise ValueError(f"{what}: “{given}” is not in the file; there are: {', '.join(sorted(known)) or 'none'}")

    def _values(self, about: str, data: Mapping[str, Any], place: str) -> dict[str, Value]:
        types = dict(ORDER_FACTS) if about == ORDER else {}
        types |= {key: known.value_type for key, known in self._catalogue.keys_of(about).items() if known.stores}
        found = {}
        for key, value in data.items():
            if key not in types:
                raise ValueError(f"{place}.{key}: no value of this name is kept here")
            try:
                found[key] = from_json(str(value) if isinstance(value, Decimal) else value, types[key])
            except ValueError as problem:
                raise ValueError(f"{place}.{key}: {problem}") from None
        return found

    def _titles(self) -> dict[int, dict[str, str]]:
        """The records that a choice among records offers: those of the person, by their numbers."""
        found: dict[int, dict[str, str]] = {}
        links = self._catalogue.collections_of(PERSON)
        for name, held in self._records.items():
            if name not in links:
                continue  # orders are chosen nowhere
            known = self._catalogue.record_types_by_id[links[name].record_type_id]
            title = self._catalogue.by_id.get(known.title_field)
            for number, values in held:
                shown = title.show(values.get(title.key)) if title else ""
                found.setdefault(known.id, {})[str(number)] = shown or f"{known.singular} {number}"
        return found

    # The answers

    def _answers(self) -> dict[str, str]:
        """The answers by the names that the inputs of a page would have."""
        plain = [section for section in self._made.form.sections if not section.repeat]
        of_cart = [section for section in self._made.form.sections if section.repeat and section.repeat.per]
        repeated = {one.id: one for one in self._made.form.sections if one.repeat and not one.repeat.per}
        collections = {section_id: self._collection(section) for section_id, section in repeated.items()}
        ids_of = {name: one for one, name in collections.items() if [*collections.values()].count(name) == 1}
        ids = {key: number for section in plain for key, number in self._asked(section).items()}
        found: dict[str, str] = {}
        for key, given in self._case.answers.items():
            if key not in ids:
                raise ValueError(f"answers.{key}: the form does not ask this")
            self._answer(found, ids[key], key, PERSON, given)
        for named, members in self._case.fillings.items():
            section_id = ids_of.get(named, named)
            if section_id not in repeated:
                known = ", ".join(repeated) or "none"
                raise ValueError(f"fillings.{section_id}: this is no section that repeats; there are: {known}")
            self._fill(found, repeated[section_id], members)
        self._answer_lines(found, of_cart)
        return found

    def _answer_lines(self, found: dict[str, str], sections: Sequence[Section]) -> None:
        """What is asked per line or piece, by the line of the cart."""
        cart = self._cart()
        for place, line in enumerate(self._case.cart.lines if self._case.cart and cart else ()):
            assert cart is not None
            fitting = [one for one in sections if one.repeat and one.repeat.among.has(cart.lines[place].offer)]
            given = line.answers if isinstance(line.answers, list) else [line.answers] * line.quantity
            if len(given) > line.quantity:
                raise ValueError(f"cart.lines.{place}.answers: there are more of them than pieces")
            for number, member in enumerate(given, 1):
                self._answer_piece(found, fitting, f"cart.lines.{place}.answers", (cart.names[place], number), member)

    def _answer_piece(
        self,
        found: dict[str, str],
        sections: Sequence[Section],
        where: str,
        piece: tuple[str, int],
        member: Mapping[str, str | SentFile | None],
    ) -> None:
        for key, given in member.items():
            asking = [one for one in sections if key in self._asked(one)]
            if not asking:
                raise ValueError(f"{where}.{key}: the form does not ask this of the line")
            for section in asking:
                assert section.repeat is not None
                name = f"{piece[0]}.{piece[1]}" if section.repeat.per == "piece" else piece[0]
                about = record_about(section.repeat.record_type)
                self._answer(found, f"{self._asked(section)[key]}.{name}", key, about, given)

    def _asked(self, section: Section) -> dict[str, str]:
        """The ids of the questions of a section, by the keys of their fields."""
        known = {question.id: self._catalogue.by_id.get(question.field_id) for question in section.questions}
        return {field.key: question_id for question_id, field in known.items() if field is not None}

    def _fill(
        self, found: dict[str, str], section: Section, members: Sequence[Mapping[str, str | SentFile | None]]
    ) -> None:
        assert section.repeat is not None
        about, ids = record_about(section.repeat.record_type), self._asked(section)
        names = []
        for number, member in enumerate(members, 1):
            name = str(number)
            if RECORD in member:
                known = {str(one) for one, _ in self._records.get(self._collection(section), ())}
                if member[RECORD] not in known:
                    place = f"fillings.{section.id}.{number - 1}.{RECORD}"
                    raise ValueError(f"{place}: the person has no such record; they are counted from 1")
                name = f"r{member[RECORD]}"
            names.append(name)
            for key, given in member.items():
                if key == RECORD:
                    continue
                if key not in ids:
                    raise ValueError(f"fillings.{section.id}.{number - 1}.{key}: the section does not ask this")
                self._answer(found, f"{ids[key]}.{name}", key, about, given)
        found[section.id] = " ".join(names)

    def _collection(self, section: Section) -> str:
        compiled = next(one for one in self._made.prepared.compiled.sections if one.section.id == section.id)
        return compiled.collection

    def _answer(self, found: dict[str, str], name: str, key: str, about: str, given: str | SentFile | None) -> None:
        if isinstance(given, SentFile):
            self._files[name] = StoredFile(name, given.name, given.media_type, given.size, given.width, given.height)
            self._sent_for[name] = self._catalogue.keys_of(about)[key].id
            given = name
        if given is not None:
            found[name] = given

    # The result

    def _named(self, outcome: Outcome) -> Iterator[tuple[str, QuestionOutcome]]:
        for section in outcome.sections:
            for place, filling in enumerate(section.fillings):
                for shown in filling.questions:
                    yield self._name(section, place, shown.field), shown

    def _name(self, section: SectionOutcome, place: int, field: Fact) -> str:
        return f"{section.section.id}.{place}.{field.key}" if section.section.repeat else field.key

    def _hidden(self, outcome: Outcome) -> Iterator[tuple[str, Reason]]:
        for section in outcome.sections:
            if section.section.repeat and section.verdict is not True:
                yield section.section.id, "rule" if section.verdict is False else "rule_unknown"
        for name, shown in self._named(outcome):
            if not shown.shows:
                because: Any = shown.because or "rule"
                unknown = because in ("rule", "section") and shown.verdict is None
                yield name, f"{because}_unknown" if unknown else because  # type: ignore[misc]  # one of the reasons

    def _stores(self, outcome: Outcome) -> Stores:
        secret = {one.field.key for one in outcome.walk() if one.field.type.kind == "secret"}
        results = outcome.results(self._made.workspace.sets.get(self._slug, {}))
        joining = joining_of(self._made.form, outcome)
        lists = [one.key for one in self._catalogue.lists if one.id in joining.joins]
        types = self._catalogue.record_types_by_id
        links = self._catalogue.links
        return Stores(
            person={**_written(results.of(PERSON), secret), **({"lists": lists} if lists else {})},
            order=_written(results.of(ORDER), secret),
            house=_written(results.of(HOUSE), secret),
            records=tuple(
                StoredRecord(
                    record_type=types[one.record_type].key,
                    collection=links[one.link].back_key if one.link in links else "",
                    record=one.record_id or None,
                    values=_written(one.values, secret),
                )
                for one in results.records
            ),
        )

    @property
    def _slug(self) -> str:
        return next(slug for slug, form in self._made.workspace.forms.items() if form is self._made.form)


def _billed(bill: Bill, line: BillLine) -> TrialBillLine:
    amounts = {name: str(in_currency(getattr(line, name), bill.decimals)) for name in ("amount", "off", "tax")}
    return TrialBillLine(key=line.key, label=line.label, kind=line.kind, **amounts)


def _taxed(bill: Bill, one: TaxLine) -> TrialTax:
    basis, tax = (str(in_currency(part, bill.decimals)) for part in (one.basis, one.tax))
    return TrialTax(percent=percent_of(one.rate), basis=basis, tax=tax)


def _written(values: Mapping[str, Value], secret: set[str]) -> dict[str, Json]:
    """Values as JSON; of a secret only that it is set."""
    return {key: "set" if key in secret and value is not None else to_json(value) for key, value in values.items()}
