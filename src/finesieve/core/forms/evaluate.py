"""Working out a form: from the answers so far to the outcome."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import lru_cache, partial
from typing import Any, Final

from finesieve.core.commerce.bill import NoRate
from finesieve.core.commerce.cart import CartLine
from finesieve.core.fields.about import ORDER, PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.fields.families.places import country_of, needs_postcode, regions_of
from finesieve.core.fields.options import Option
from finesieve.core.forms.definition import MOST_FILLINGS, Form, Repeat, Surcharge, Tidying
from finesieve.core.forms.fees import compile_fees
from finesieve.core.forms.joining import answer_joins
from finesieve.core.forms.outcome import (
    Because,
    Charge,
    CheckOutcome,
    Filling,
    Outcome,
    QuestionOutcome,
    RemarkOutcome,
    SectionOutcome,
    Trouble,
)
from finesieve.core.forms.prepare import (
    Compiled,
    CompiledCheck,
    CompiledQuestion,
    CompiledSection,
    Rule,
    compile_form,
)
from finesieve.core.forms.readings import Readings
from finesieve.core.forms.rows import NOBODY, FormRow, Situation, inside
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.placeholders import fill
from finesieve.core.language.program import Moment
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value

__all__ = ["PreparedForm", "prepare", "tidied"]

_FILLING: Final = re.compile(r"(r[0-9]{1,15}|[0-9]{1,4})")
Values = Mapping[str, Value]


def prepare(form: Form, catalogue: Catalogue, *, lasting: bool = False) -> "PreparedForm":
    """Compile a form; see `compile_form`."""
    return PreparedForm(compile_form(form, catalogue, lasting=lasting), catalogue)


class PreparedForm:
    """A form whose rules are compiled, ready to be worked out many times."""

    def __init__(self, compiled: Compiled, catalogue: Catalogue) -> None:
        self.form = compiled.form
        self.compiled = compiled
        self._catalogue = catalogue
        self._readings = Readings()
        self.fees = compile_fees(compiled.form, catalogue)
        self.check_text: Callable[[str], Checked] = lru_cache(maxsize=256)(
            partial(check, names=compiled.world, zone=catalogue.zone)
        )

    def evaluate(self, answers: Mapping[str, str], moment: Moment, situation: Situation = NOBODY) -> Outcome:
        """Work out the form for these answers, by question id, in a situation.

        The answers to a repeated section are named `q5.2` by question and filling;
        the section's own id names its fillings, such as `1 3 r17`, where `r17`
        stands for the record 17 that there is already. An answer that is not there
        at all begins with what is known, an address parameter or the default.

        A question that does not count is not asked, not checked, not charged and not
        stored; in rules its field is then the stored value.
        """
        return _Work(self.compiled, self._catalogue, self._readings, answers, moment, situation).outcome()


def tidied(raw: str, how: Sequence[Tidying]) -> str:
    """An answer, tidied before it is checked."""
    for one in how:
        raw = _TIDY[one](raw)
    return raw


_TIDY: Final[dict[Tidying, Callable[[str], str]]] = {
    "spaces": lambda raw: "\n".join(" ".join(line.split()) for line in raw.strip().split("\n")),
    "lower": str.lower,
    "upper": str.upper,
    "capital": lambda raw: raw[:1].upper() + raw[1:],
}


@dataclass(slots=True)
class _Answer:
    """A question as it is worked out; its outcome is made of it once, at the end."""

    id: str
    field: Field
    stored: Value
    verdict: bool | None = None
    because: Because = ""
    raw: str = ""
    value: Value = None
    offered: tuple[Option, ...] = ()
    tidied: bool = False
    trouble: Trouble = ""
    message: str = ""


@dataclass(slots=True)
class _Draft:
    """A filling as it grows."""

    id: str
    record_id: int
    row: Values
    member: dict[str, Value]
    found: dict[str, _Answer]
    line: CartLine | None = None


class _Work:
    """One evaluation: first, unit by unit, what shows and was answered; then what that requires, checks and costs."""

    def __init__(
        self,
        compiled: Compiled,
        catalogue: Catalogue,
        readings: Readings,
        answers: Mapping[str, str],
        moment: Moment,
        situation: Situation,
    ) -> None:
        self.compiled, self.catalogue, self.readings, self.answers = compiled, catalogue, readings, answers
        self.moment, self.situation, self.today = moment, situation, moment.today
        self.row = FormRow(situation, catalogue.derivation, moment, self._collections())
        self.drafts: dict[str, list[_Draft]] = {}
        self.joined = set(compiled.form.joins)

    def _collections(self) -> dict[str, tuple[Values, ...]]:
        links = self.catalogue.collections_of(PERSON)
        found: dict[str, tuple[Values, ...]] = {}
        for name, held in self.situation.records.items():
            about = record_about(links[name].record_type_id) if name in links else ORDER
            derivation = self.catalogue.derivation_of(about)
            found[name] = tuple(derivation.row(values, self.moment) for _, values in held)
        return found

    def outcome(self) -> Outcome:
        for section in self.compiled.sections:
            if not section.section.repeat:
                self.drafts[section.section.id] = [_Draft("", 0, self.row, {}, {})]
        for section, question in self.compiled.units:
            if question is None:
                self._fill(section)
            else:
                draft = self.drafts[section.section.id][0]
                found = self._answered(section, question, draft)
                draft.found[question.id] = found
                if question.question.lists and found.verdict is True:
                    joined, left = answer_joins(question.question.lists, found.field, found.value)
                    self.joined = self.joined.union(joined) - left
        sections = tuple(self._section(section) for section in self.compiled.sections)
        return Outcome(sections, self.row, self.moment, self.situation.known)

    # What shows, and what was answered

    def _shows(self, section: CompiledSection) -> bool | None:
        """The verdict of a section's rule. It is the same for all its questions, so it is worked out afresh
        only while answers still change what it reads."""
        return self._verdict(section.show, self.row)

    def _verdict(self, rule: Rule | None, row: Values) -> bool | None:
        if rule is None:
            return True
        verdict: Any = rule.program(row, self.moment)
        return None if verdict is None else bool(verdict)

    def _answered(self, section: CompiledSection, one: CompiledQuestion, draft: _Draft) -> "_Answer":
        shelf = self.situation.shelf
        field = shelf.with_titles_in(one.field) if shelf else one.field
        if field.settings.country_from:
            field = field.beside(draft.row)
        stored = (draft.member if section.section.repeat else self.situation.stored).get(field.key)
        found = _Answer(f"{one.id}.{draft.id}" if draft.id else one.id, field, stored)
        found.verdict, found.because = self._counts(section, one, draft, stored)
        if found.verdict is True and field.settings.country_from and not _has_any(field):
            found.verdict, found.because = False, "country"
        if field.options:
            found.offered = self._offered(one, draft.row)
        if found.verdict is not True:
            return found
        self._read(one, found)
        if one.stores:
            self._note(section, draft, field.key, found.value, held=field.is_held)
        return found

    def _read(self, one: CompiledQuestion, found: "_Answer") -> None:
        """Read what was answered, or what the question begins with."""
        question, field = one.question, found.field
        given = None if question.hidden else self.answers.get(found.id)
        raw = self._initial(one, field, found.stored) if given is None else given
        if question.tidy:
            found.raw = tidied(raw, question.tidy)
            found.tidied = found.raw not in (raw, raw.strip())
        else:
            found.raw = raw
        try:
            value = self.readings.read(one, field, found.raw, self.situation.shelf, self.today)
            if field.options and value is not None:
                field.refuse_retired(value, found.stored)
                _refuse_hidden(value, found.offered, found.stored)
            found.value = value
        except ValueError as problem:
            if not question.hidden:
                found.trouble = "unreadable"
                found.message = problem.args[0] if problem.args else str(problem)

    def _note(self, section: CompiledSection, draft: _Draft, key: str, value: Value, *, held: bool = False) -> None:
        if section.section.repeat:
            draft.member[key] = value
            draft.row = self._inner_row(section, draft.member, draft.line)
        else:
            self.row.answer(key, value, held=held)

    def _counts(
        self, section: CompiledSection, one: CompiledQuestion, draft: _Draft, stored: Value
    ) -> tuple[bool | None, Because]:
        if section.show is not None:
            around = self._shows(section)
            if around is not True:
                return around, "section"
        if one.show is not None:
            verdict = self._verdict(one.show, draft.row)
            if verdict is not True:
                return verdict, "rule"
        # What is held, a level or a role, can be chosen anew.
        if_unknown = one.question.only_if_unknown or (self.situation.only_missing and not one.field.is_held)
        if if_unknown and stored is not None and not self.situation.again:
            return False, "known"
        if one.field.settings.lists and not section.section.repeat and not self._has(one.field):
            return False, "lists"
        locked = self.situation.locked
        if locked and not section.section.repeat and one.field.key in locked and one.field.key != "email":
            return False, "locked"
        return True, "hidden" if one.question.hidden else ""

    def _has(self, field: Field) -> bool:
        """Whether the person is on one of the lists that a field is kept for, or joins one here."""
        wanted = {known.id: known.key for known in self.catalogue.lists if known.id in field.settings.lists}
        held: Any = self.situation.stored.get("lists") or ()
        return not wanted or not self.joined.isdisjoint(wanted) or not set(wanted.values()).isdisjoint(held)

    def _offered(self, one: CompiledQuestion, row: Values) -> tuple[Option, ...]:
        if not one.options:
            return one.field.offered
        return tuple(
            option for option in one.field.offered if self._verdict(one.options.get(option.stored_value), row) is True
        )

    def _initial(self, one: CompiledQuestion, field: Field, stored: Value) -> str:
        """What a question begins with: what is known, an address parameter, the default."""
        question, kind = one.question, field.type.kind
        if kind in ("file", "secret"):
            return ""
        from_page = self.situation.page.get(question.parameter, "") if question.parameter else ""
        if question.hidden and from_page:
            return from_page
        if stored is not None and question.prefill and self.situation.known:
            return field.raw(stored)
        return from_page or question.default or field.settings.default

    # Repeated sections

    def _fill(self, section: CompiledSection) -> None:
        drafts = []
        held = dict(self.situation.records.get(section.collection, ()))
        if self._shows(section) is True:
            for filling, record_id, place, line in self._places(section, held):
                member = dict(held.get(record_id, {}))
                draft = _Draft(filling, record_id, self._inner_row(section, member, line), member, {}, line)
                for question in section.order:
                    draft.found[question.id] = self._answered(section, question, draft)
                drafts.append(draft)
                if section.section.repeat and section.section.repeat.per == "line":
                    self.row.answer_line(place, draft.member)
        self.drafts[section.section.id] = drafts
        derivation = self.catalogue.derivation_of(section.about)
        filled = {draft.record_id for draft in drafts if draft.record_id}
        rows = [derivation.row(values, self.moment) for record_id, values in held.items() if record_id not in filled]
        rows += [derivation.row(draft.member, self.moment) for draft in drafts]
        if section.collection:
            self.row.collection(section.collection, rows)

    def _inner_row(self, section: CompiledSection, member: Mapping[str, Value], line: CartLine | None) -> Values:
        kept = self.catalogue.keys_of(section.about)
        of_line = line.values() if line is not None else {}
        own = {**{key: value for key, value in of_line.items() if key not in kept}, **member}
        return inside(self.row, self.catalogue.derivation_of(section.about).row(own, self.moment))

    def _places(
        self, section: CompiledSection, held: Mapping[int, Values]
    ) -> Iterable[tuple[str, int, int, CartLine | None]]:
        """The fillings: what each is named by, the record that it is of, the place of its line, and that line."""
        repeat = section.section.repeat
        if repeat is not None and repeat.per:
            return ((name, 0, place, line) for name, place, line in self._pieces(repeat))
        return ((one, int(one[1:]) if one.startswith("r") else 0, 0, None) for one in self._fillings(section, held))

    def _pieces(self, repeat: Repeat) -> Iterator[tuple[str, int, CartLine]]:
        """What a section is asked once for: the lines of the cart that are meant, or their pieces; not beyond 50."""
        cart, found = self.situation.cart, 0
        for place, line in enumerate(cart.lines if cart is not None else ()):
            assert cart is not None
            many = (line.quantity if repeat.per == "piece" else 1) if repeat.among.has(line.offer) else 0
            for number in range(1, min(many, MOST_FILLINGS - found) + 1):
                found += 1
                yield f"{cart.names[place]}.{number}" if repeat.per == "piece" else cart.names[place], place, line

    def _wanted(self, repeat: Repeat) -> int:
        """How often a section would be asked, were there no end to it."""
        cart = self.situation.cart
        meant = [line for line in (cart.lines if cart is not None else ()) if repeat.among.has(line.offer)]
        return sum(line.quantity for line in meant) if repeat.per == "piece" else len(meant)

    def _fillings(self, section: CompiledSection, held: Mapping[int, Values]) -> list[str]:
        repeat = section.section.repeat
        assert repeat is not None
        if section.count is not None:
            many: Any = section.count.program(self.row, self.moment)
            many = int(many) if isinstance(many, Decimal) else 0
            return [str(place + 1) for place in range(max(0, min(many, repeat.most)))]
        given = self.answers.get(section.section.id)
        named = list(dict.fromkeys(_FILLING.findall(given or "")))
        if given is None and self.situation.known:
            named = [f"r{record_id}" for record_id in held]
        named = [one for one in named if not one.startswith("r") or int(one[1:]) in held]
        fresh = (str(number) for number in range(1, 9_999))
        while len(named) < repeat.least:
            named.append(next(one for one in fresh if one not in named))
        return named[: repeat.most]

    # What is required, checked, charged

    def _section(self, section: CompiledSection) -> SectionOutcome:
        drafts = self.drafts.get(section.section.id, [])
        fillings = tuple(self._filling(section, draft) for draft in drafts)
        repeat, verdict = section.section.repeat, self._shows(section)
        per = repeat if repeat is not None and repeat.per else None
        return SectionOutcome(
            section.section,
            verdict,
            fillings,
            counted=per is not None or section.count is not None,
            link=section.link,
            beyond=self._wanted(per) - len(fillings) if per is not None and verdict is True else 0,
            surplus=self._surplus(section, drafts) if per is not None else 0,
        )

    def _surplus(self, section: CompiledSection, drafts: Sequence[_Draft]) -> int:
        """How many fillings have answers, but no piece in the cart any more."""
        here = {draft.id for draft in drafts}
        asked = {one.id for one in section.order}
        parts = (name.partition(".") for name, answer in self.answers.items() if answer.strip())
        return len({filling for question, _, filling in parts if question in asked and filling} - here)

    def _filling(self, section: CompiledSection, draft: _Draft) -> Filling:
        items: list[QuestionOutcome | RemarkOutcome] = []
        around = self._shows(section)
        for item in section.items:
            if isinstance(item, CompiledQuestion):
                items.append(self._judged(item, draft))
            else:
                verdict = self._verdict(item.show, draft.row) if around is True else around
                name = f"{item.id}.{draft.id}" if draft.id else item.id
                items.append(RemarkOutcome(name, item.remark, verdict))
        return Filling(draft.id, tuple(items), draft.record_id, draft.row, draft.line.label if draft.line else "")

    def _judged(self, one: CompiledQuestion, draft: _Draft) -> QuestionOutcome:
        found = draft.found[one.id]
        question, field = one.question, found.field
        required = one.insists
        if one.required is not None and one.stores:
            required = self._verdict(one.required, draft.row) is True
        trouble, message = found.trouble, found.message
        checks: tuple[CheckOutcome, ...] = ()
        charges: tuple[Charge, ...] = ()
        if found.verdict is True and not trouble:
            if found.value is None:
                if required and not question.hidden and not _kept_secret(field, found.stored):
                    trouble, message = "missing", _MISSING.get(field.type_key, "Please answer this.")
            else:
                if one.checks:
                    checks = tuple(self._checked(test, found, draft) for test in one.checks)
                failed = next((check for check in checks if check.verdict is False), None)
                if one.charges and failed is None:
                    charges = self._charged(one, found, draft)
                if failed is not None and not question.hidden:
                    trouble, message = "check", failed.message
        return QuestionOutcome(
            found.id,
            question,
            field,
            found.verdict,
            found.because,
            found.raw,
            found.value,
            required,
            found.offered,
            found.tidied,
            found.stored,
            trouble,
            message,
            checks,
            charges,
        )

    def _checked(self, test: CompiledCheck, outcome: "_Answer", draft: _Draft) -> CheckOutcome:
        verdict: bool | None = None
        if test.same:
            other = draft.found.get(test.same) or self._found(test.same)
            known = other is not None and other.verdict is True and other.value is not None
            verdict = other.value == outcome.value if other is not None and known else None
        elif test.rule is not None:
            verdict = self._verdict(test.rule, draft.row)
        return CheckOutcome(test.check, verdict, test.message)

    def _found(self, question_id: str) -> "_Answer | None":
        return next(
            (
                drafts[0].found[question_id]
                for drafts in self.drafts.values()
                if drafts and question_id in drafts[0].found
            ),
            None,
        )

    def _share(self, surcharge: Surcharge) -> Fraction | None:
        """A share of what is in the cart, exact; none without a cart, or where its taxes are not known."""
        cart = self.situation.cart
        if cart is None or surcharge.share is None:
            return None
        try:
            return cart.bases[surcharge.basis] * _per_cent(surcharge.share)
        except NoRate:
            return None

    def _charged(self, one: CompiledQuestion, outcome: "_Answer", draft: _Draft) -> tuple[Charge, ...]:
        found = []
        for surcharge, rule in one.charges:
            held = outcome.value if isinstance(outcome.value, tuple) else (outcome.value,)
            amount: Any = rule.program(draft.row, self.moment) if rule is not None else self._share(surcharge)
            if (surcharge.option and surcharge.option not in held) or not isinstance(amount, Decimal | Fraction):
                continue
            if surcharge.low is not None:
                amount = max(amount, type(amount)(surcharge.low))
            if surcharge.high is not None:
                amount = min(amount, type(amount)(surcharge.high))
            if amount and outcome.value is not False:
                exact = amount if isinstance(amount, Fraction) else Fraction(amount)
                said = partial(self._said, one.checked, draft.row) if one.checked is not None else str
                found.append(Charge(outcome.id, surcharge, exact, said))
        return tuple(found)

    def _said(self, checked: Callable[[str], Checked], row: Values, text: str) -> str:
        """A text with its placeholders filled by what is known there."""
        return fill(text, checked, row, self.moment, partial(show_typed, self.catalogue))


@lru_cache(maxsize=1_024)
def _per_cent(share: Decimal) -> Fraction:
    return Fraction(share) / 100


def _refuse_hidden(value: Value, offered: tuple[Option, ...], stored: Value) -> None:
    """Raise ValueError where an option is chosen that does not show here; who holds it may keep it."""
    chosen = value if isinstance(value, tuple) else (value,)
    held = stored if isinstance(stored, tuple) else (stored,)
    shown = {option.stored_value for option in offered}
    for one in chosen:
        if one not in shown and one not in held:
            raise ValueError("Choose among the options offered.")


def _has_any(field: Field) -> bool:
    """Whether the country that a field follows has regions, or postcodes, at all."""
    country = country_of(field)
    return bool(regions_of(country)) if field.type_key == "region" else needs_postcode(country)


def _kept_secret(field: Field, stored: Value) -> bool:
    """A secret or a file that is there already need not be given again."""
    return stored is not None and field.type.kind in ("file", "secret")


_MISSING: Final = {
    "choice": "Please choose one.",
    "progress": "Please choose one.",
    "record": "Please choose one.",
    "country": "Please choose a country.",
    "region": "Please choose a region.",
    "postcode": "Please give a postcode.",
    "choices": "Please choose at least one.",
    "agreement": "Please tick this to go on.",
    "file": "Please choose a file.",
    "picture": "Please choose a picture.",
    "money": "Please give an amount.",
    "time": "Please give a time.",
    "datetime": "Please give a date and a time.",
    "day_of_year": "Please give a day.",
    "phone": "Please give your phone number.",
    "yes_no": "Please choose yes or no.",
    "date": "Please give a date.",
    "number": "Please give a number.",
    "email": "Please give your email address.",
}
