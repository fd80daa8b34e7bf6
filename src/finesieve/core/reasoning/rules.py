"""Reasoning about the rules of a form: what can never be true, always is, contradicts another, asks too early.

Each rule is tried on a set of values that stands for all: every option, yes and no, blank, and of numbers,
dates and texts one value for each stretch between the constants that they are compared with. Where such a
value meets anything but a comparison with a constant (arithmetic, functions, another field), or where there are
more than 20,000 combinations (200,000 for a whole form), nothing is claimed.
"""

import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any, Final, Literal

from finesieve.core.fields.contexts import CONTEXTS
from finesieve.core.forms.definition import Form
from finesieve.core.forms.prepare import Compiled, CompiledQuestion, CompiledSection, Rule, compile_form
from finesieve.core.forms.problems import label_of
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import DayOfYear, Type, Value

__all__ = ["MOST_COMBINATIONS", "RuleFinding", "reason_about"]

MOST_COMBINATIONS: Final = 20_000
MOST_IN_A_FORM: Final = 200_000
_MOST_MENTIONED: Final = 7
Kind = Literal["never", "always", "contradicts", "later", "unexamined"]
_FINITE: Final = frozenset(("choice", "yes_no", "choices"))
_COMPARISONS: Final = frozenset(("=", "!=", "<", "<=", ">", ">=", "between", "in", "is_blank", "is_filled"))


@dataclass(frozen=True, slots=True)
class RuleFinding:
    """Something about one rule. `place` and `part` are where it stands, `others` the places that it has to do with."""

    kind: Kind
    place: str
    part: str
    message: str
    others: tuple[str, ...] = ()


def reason_about(form: Form, catalogue: Catalogue, moment: Moment, only: str = "") -> tuple[RuleFinding, ...]:
    """All findings about the rules of a form, in its order; or those about one section or item, `only`."""
    return tuple(_Reasoner(form, catalogue, moment).findings(only))


@dataclass(frozen=True, slots=True)
class _Asked:
    """A question that gives a variable its value: the rules under which it does."""

    place: str
    question: CompiledQuestion
    section: CompiledSection


class _Reasoner:
    def __init__(self, form: Form, catalogue: Catalogue, moment: Moment) -> None:
        self.form, self.catalogue, self.moment = form, catalogue, moment
        self.compiled: Compiled = compile_form(form, catalogue)
        self.asked: dict[str, _Asked] = {}
        for section in self.compiled.sections:
            for item in section.items if not section.section.repeat else ():
                if isinstance(item, CompiledQuestion):
                    self.asked[item.field.key] = _Asked(item.id, item, section)
        self.budget = MOST_IN_A_FORM
        self.order = {place: number for number, place in enumerate(self.compiled.order)}

    def findings(self, only: str = "") -> Iterator[RuleFinding]:
        for place, part, rule, section in self._rules():
            if only in ("", place):
                yield from self._rule(place, part, rule, section)

    def _rules(self) -> Iterator[tuple[str, str, Rule, CompiledSection | None]]:
        for section in self.compiled.sections:
            if section.show is not None:
                yield section.section.id, "show_when", section.show, None
            for item in section.items:
                if item.show is not None:
                    yield item.id, "show_when", item.show, section
                if isinstance(item, CompiledQuestion):
                    if item.required is not None:
                        yield item.id, "required_when", item.required, section
                    for option, rule in item.options.items():
                        yield item.id, f"option:{option}", rule, section

    def _rule(self, place: str, part: str, rule: Rule, section: CompiledSection | None = None) -> Iterator[RuleFinding]:
        if rule.typed is None:
            return
        label = label_of(self.form, self.catalogue, place)
        yield from self._later(place, part, rule, label)
        alone = self._verdicts([rule], {})
        if alone is None:
            yield RuleFinding("unexamined", place, part, f"Whether the rule of “{label}” can be true was not examined.")
            return
        words = {"show_when": "shows", "required_when": "is required"}.get(part, "is offered")
        if True not in alone:
            yield RuleFinding("never", place, part, f"“{label}” never {words}: its rule can never be true.")
            return
        if alone == {True}:
            yield RuleFinding("always", place, part, f"“{label}” always {words}: its rule is always true.")
        yield from self._contradicted(place, part, rule, section, label, words)

    def _later(self, place: str, part: str, rule: Rule, label: str) -> Iterator[RuleFinding]:
        """A rule about a question that the form asks after it."""
        flat = [one for section in self.form.sections for one in (section.id, *(item.id for item in section.items))]
        here = flat.index(place)
        for key in sorted(self._base(rule)):
            asked = self.asked.get(key)
            if asked is not None and asked.place != place and flat.index(asked.place) > here and place[0] != "s":
                other = label_of(self.form, self.catalogue, asked.place)
                message = f"“{label}” depends on “{other}”, which is asked after it."
                yield RuleFinding("later", place, part, message, (asked.place,))

    def _contradicted(
        self, place: str, part: str, rule: Rule, section: CompiledSection | None, label: str, words: str
    ) -> Iterator[RuleFinding]:
        """A rule that could be true, but not together with the rules of the questions that it reads."""
        rules = [rule]
        if section is not None and section.show is not None:
            rules.append(section.show)
        if part != "show_when":
            own = next((asked for asked in self.asked.values() if asked.place == place), None)
            rules += [own.question.show] if own and own.question.show else []
        cone = self._cone(rules)
        verdicts = self._verdicts(rules, cone)
        if verdicts is not None and True not in verdicts:
            others = tuple(
                asked.place
                for asked in cone.values()
                if asked.place != place and (asked.question.show or asked.section.show)
            )
            needed = [asked.place for asked in cone.values() if asked.question.insists and asked.place != place]
            if needed and not others and (section is None or section.show is None):
                named = ", ".join(f"“{label_of(self.form, self.catalogue, other)}”" for other in needed)
                message = f"For somebody new “{label}” never {words} when the form is sent: {named} must be answered."
                yield RuleFinding("contradicts", place, part, message, tuple(needed))
                return
            if section is not None and section.show is not None:
                others = (*others, section.section.id)
            named = ", ".join(f"“{label_of(self.form, self.catalogue, other)}”" for other in dict.fromkeys(others))
            message = f"For somebody new “{label}” never {words}: its rule contradicts those of {named or 'others'}."
            yield RuleFinding("contradicts", place, part, message, others)

    # Which variables there are

    def _base(self, rule: Rule) -> frozenset[str]:
        """The stored names that a rule rests on, through derived fields."""
        names = rule.typed.names if rule.typed else frozenset()
        plain = frozenset(name.removeprefix("form.") for name in names)
        derivation = self.catalogue.derivation
        return frozenset(name for name in derivation.ancestors(plain) if name not in derivation.formulas)

    def _cone(self, rules: Sequence[Rule]) -> dict[str, _Asked]:
        """The questions whose answers the rules rest on, through the rules of those questions, by key."""
        found: dict[str, _Asked] = {}
        waiting = [key for rule in rules for key in self._base(rule)]
        while waiting:
            key = waiting.pop()
            asked = self.asked.get(key)
            if asked is None or key in found:
                continue
            found[key] = asked
            for one in self._around(asked):
                waiting.extend(self._base(one))
        return found

    def _around(self, asked: _Asked) -> list[Rule]:
        rules = [rule for rule in (asked.section.show, asked.question.show) if rule is not None]
        rules += asked.question.options.values()
        rules += [check.rule for check in asked.question.checks if check.rule and self._exact([check.rule]) is not None]
        return rules

    # Trying them

    def _verdicts(self, rules: Sequence[Rule], cone: Mapping[str, _Asked]) -> set[bool | None] | None:
        """The verdicts that all the rules together can have; None where that cannot be told.

        The variables of `cone` are blank where their question does not show, and pass its checks.
        """
        every = [*rules, *(rule for asked in cone.values() for rule in self._around(asked))]
        domains = self._exact(every)
        if domains is None:
            return None
        keys = sorted(domains, key=lambda key: self.order.get(self.asked[key].place, -1) if key in self.asked else -1)
        size = 1
        for key in keys:
            size *= len(domains[key])
            if size > min(MOST_COMBINATIONS, self.budget):
                return None
        self.budget -= size
        found: set[bool | None] = set()
        self._try(keys, 0, {}, domains, cone, rules, found)
        return found

    def _try(
        self,
        keys: Sequence[str],
        at: int,
        row: dict[str, Value],
        domains: Mapping[str, Sequence[Value]],
        cone: Mapping[str, _Asked],
        rules: Sequence[Rule],
        found: set[bool | None],
    ) -> None:
        if at == len(keys):
            verdicts = [self._run(rule, row) for rule in rules]
            found.add(False if False in verdicts else None if None in verdicts else True)
            return
        key = keys[at]
        asked = cone.get(key)
        for value in domains[key]:
            row[key] = value
            if asked is None or self._possible(asked, key, row):
                self._try(keys, at + 1, row, domains, cone, rules, found)
        del row[key]

    def _possible(self, asked: _Asked, key: str, row: dict[str, Value]) -> bool:
        """Whether a question can have this answer, in the light of what was answered before it."""
        value = row[key]
        show = [rule for rule in (asked.section.show, asked.question.show) if rule is not None]
        if any(self._run(rule, {**row, key: None}) is not True for rule in show):
            return value is None
        if value is None:
            return not self._insists(asked.question, row)
        held = value if isinstance(value, tuple) else (value,)
        options = asked.question.options
        if any(one in options and self._run(options[one], row) is not True for one in held if isinstance(one, str)):
            return False
        checks = [check.rule for check in asked.question.checks if check.rule and self._exact([check.rule]) is not None]
        reads = [rule for rule in checks if all(name in row for name in self._base(rule))]
        return all(self._run(rule, row) is not False for rule in reads)

    def _insists(self, question: CompiledQuestion, row: Mapping[str, Value]) -> bool:
        """Whether a form with this answer blank could not be sent."""
        if question.question.hidden or not question.stores:
            return False
        if question.required is not None:
            reads = all(name in row for name in self._base(question.required))
            return reads and self._exact([question.required]) is not None and self._run(question.required, row) is True
        return question.insists

    def _run(self, rule: Rule, row: Mapping[str, Value]) -> bool | None:
        values = {**row, **{f"form.{key}": value for key, value in row.items()}}
        verdict: Any = rule.program(self.catalogue.derivation.row(values, self.moment), self.moment)
        return None if verdict is None else bool(verdict)

    # Values that stand for all

    def _exact(self, rules: Sequence[Rule]) -> dict[str, list[Value]] | None:
        """For each stored name the values that stand for all; None where some name meets more than constants."""
        types: dict[str, Type] = {}
        constants: dict[str, set[Value]] = {}
        formulas = [rule.typed for rule in rules if rule.typed is not None]
        names = frozenset(name.removeprefix("form.") for typed in formulas for name in typed.names)
        derivation = self.catalogue.derivation
        formulas += [derivation.formulas[name] for name in derivation.ancestors(names) if name in derivation.formulas]
        derived = self._derived_kinds(formulas)
        for typed in formulas:
            if not _gather(typed, types, constants, derived):
                return None
        domains = {}
        for key, type_ in types.items():
            values = _values(type_, constants.get(key, set()))
            if values is None:
                return None
            domains[key] = values
        return domains

    def _derived_kinds(self, formulas: Sequence[Typed]) -> frozenset[str]:
        """The derived names that rest on finite choices alone: they may meet anything."""
        derivation = self.catalogue.derivation
        found = set()
        for name in derivation.formulas:
            base = derivation.ancestors(frozenset((name,))) - derivation.formulas.keys()
            kinds = {key: field.value_type.kind for key, field in self.catalogue.by_key.items()}
            parts = [
                part
                for one in derivation.ancestors(frozenset((name,))) & derivation.formulas.keys()
                for part in derivation.formulas[one].walk()
            ]
            if all(kinds.get(key) in _FINITE for key in base) and not any(p.operation in _OUTSIDE for p in parts):
                found.add(name)
        return frozenset(found)


_OUTSIDE: Final = frozenset(("house", "collect"))


def _gather(typed: Typed, types: dict[str, Type], constants: dict[str, set[Value]], derived: frozenset[str]) -> bool:
    """Note the names of an expression with the constants that they meet; False where one meets something else."""
    if typed.operation in _OUTSIDE or typed.volatile:
        return False
    if typed.operation == "name":
        return _note_name(typed, types, derived)
    for part in typed.parts:
        inner = part.parts[0] if part.operation in ("step_of", "to_date") and part.parts else part
        infinite = inner.operation == "name" and inner.type.kind not in _FINITE and inner.name not in derived
        if infinite and not _compared(typed, inner, constants):
            return False
        if not _gather(part, types, constants, derived):
            return False
    if typed.operation.startswith("holds"):
        inner = typed.parts[0]
        if inner.operation == "name":
            constants.setdefault(inner.name, set()).update(typed.items)
    return True


def _note_name(typed: Typed, types: dict[str, Type], derived: frozenset[str]) -> bool:
    key = _variable(typed)
    if typed.level or key is None:
        return False
    if typed.name not in derived:
        types[key] = typed.type
    return True


def _variable(name: Typed) -> str | None:
    """What a name stands for in a row of variables: an answer, an address parameter, or what a cart is as a whole; None
    for what is stored."""
    source = CONTEXTS[name.prefix].source if name.prefix else "answers"
    return {"answers": name.name, "address": name.key, "cart": name.key}.get(source)


def _compared(typed: Typed, inner: Typed, constants: dict[str, set[Value]]) -> bool:
    """Whether a name stands in a comparison with constants only; those are noted."""
    if typed.operation not in _COMPARISONS:
        return False
    others = [part for part in typed.parts if part is not inner]
    if any(part.operation != "const" for part in others):
        return False
    key = _variable(inner) or inner.name
    constants.setdefault(key, set()).update(part.value for part in others if part.value is not None)
    constants[key].update(item for item in typed.items if item is not None)
    return True


def _values(type_: Type, constants: set[Value]) -> list[Value] | None:
    """The values that stand for all of a type, the constants being those that they are compared with."""
    if type_.kind == "yes_no":
        return [None, True, False]
    if type_.kind == "choice":
        return [None, *type_.options]
    if type_.kind in ("choices", "text_list"):
        return _subsets(type_, constants)
    between = _BETWEEN.get(type_.kind)
    if between is None:
        return None
    return [None, *between(sorted(constants))]


def _subsets(type_: Type, constants: set[Value]) -> list[Value] | None:
    mentioned = sorted(str(one) for one in constants)
    if len(mentioned) > _MOST_MENTIONED:
        return None
    other = next((one for one in type_.options if one not in constants), "" if type_.options else "\x00other")
    pool = [*mentioned, *([other] if other else [])]
    found: list[Value] = [() if type_.never_blank else None]
    for size in range(1, len(pool) + 1):
        found += itertools.combinations(pool, size)
    return found


def _numbers(constants: Sequence[Decimal]) -> list[Value]:
    if not constants:
        return [Decimal(0)]
    found: list[Value] = [constants[0] - 1]
    for low, high in itertools.pairwise(constants):
        found += [low, (low + high) / 2]
    return [*found, constants[-1], constants[-1] + 1]


def _dates(constants: Sequence[date]) -> list[Value]:
    day = timedelta(days=1)
    if not constants:
        return [date(2000, 1, 1)]
    found: list[Value] = [constants[0] - day] if constants[0] > date.min else []
    for low, high in itertools.pairwise(constants):
        found.append(low)
        if high - low > day:
            found.append(low + day)
    return [*found, constants[-1], *([constants[-1] + day] if constants[-1] < date.max else [])]


def _texts(constants: Sequence[str]) -> list[Value]:
    return [*constants, "\x00another"]


def _times(constants: Sequence[time]) -> list[Value]:
    times = {time(0), *constants, time(23, 59, 59), *(_later_time(one) for one in constants)}
    return [*sorted(times)]


def _later_time(one: time) -> time:
    return (datetime.combine(date(2000, 1, 1), one) + timedelta(seconds=1)).time()


def _days_of_year(constants: Sequence[DayOfYear]) -> list[Value]:
    days = [date(2000, 1, 1) + timedelta(days=number) for number in range(366)]
    return [DayOfYear(day.month, day.day) for day in days] if constants else [DayOfYear(1, 1)]


_BETWEEN: Final[Mapping[str, Callable[[Any], list[Value]]]] = {
    "number": _numbers,
    "money": _numbers,
    "date": _dates,
    "time": _times,
    "day_of_year": _days_of_year,
    "text": _texts,
}
