"""Findings: what is wrong or wasteful in a setup, each with its place and a remedy."""

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Final, Literal

from finesieve.core.commerce.shop import UNTAXED
from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.built_in import twin_of
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.reasoning.meanings import (
    alike,
    numbered,
    statuses_beside_dates,
    title_twins,
    unjoined,
    untyped_records,
)
from finesieve.core.reasoning.pages import PageReading, often_blank
from finesieve.core.reasoning.rules import RuleFinding

__all__ = ["FINDINGS", "Facts", "Finding", "FormRule", "Weight", "findings", "weight_of"]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing to look at. `field_id` is where it is found, 0 for elsewhere; `action` names what mends it.

    `path` is the page of the office where that is done, below the workspace.
    """

    code: str
    field_id: int
    message: str
    action: str
    path: str


@dataclass(frozen=True, slots=True)
class FormRule:
    """What reasoning found about a rule: of which form, at which part, of the question for which field (0 for none)."""

    form_id: int
    form: str
    field_id: int
    finding: RuleFinding


@dataclass(frozen=True)
class Facts:
    """What is known of the values and uses of a workspace.

    `people` is how many people there are; by field id: `filled` how many have a
    value, `collected` the names of forms that ask it, `used` everything else that
    uses it, `distinct` how many different values a text has, `times` how many different times of day the moments
    of a field have. `broken` has a
    derived field's id or 0, a name, why it does not work, and the page. `texts` are the texts
    of forms by place, `families` the stems of tags that behave like a field;
    `rules` is what reasoning found about the rules of forms, `joined` are the ids of lists that a form puts people on,
    `open_forms` the forms by which anyone sets house values, as (id, title), `pages` the member pages in force.
    """

    people: int
    filled: Mapping[int, int]
    collected: Mapping[int, Sequence[str]]
    used: Mapping[int, Sequence[str]]
    distinct: Mapping[int, int] = field(default_factory=dict)
    times: Mapping[int, int] = field(default_factory=dict)
    blank_house: frozenset[int] = frozenset()
    broken: Sequence[tuple[int, str, str, str]] = ()
    texts: Sequence[tuple[str, str]] = ()
    families: Sequence[tuple[str, int]] = ()
    retired_named: Sequence[tuple[int, str, str]] = ()
    rules: Sequence[FormRule] = ()
    joined: frozenset[int] = frozenset()
    open_forms: Sequence[tuple[int, str]] = ()
    pages: Sequence[PageReading] = ()


def findings(catalogue: Catalogue, facts: Facts) -> tuple[Finding, ...]:
    """Everything found, in the order of `FINDINGS`."""
    found: list[Finding] = []
    for find in FINDINGS.values():
        found.extend(find(catalogue, facts))
    return tuple(found)


def _at(known: Field) -> str:
    return f"define/house/{known.id}" if known.about == HOUSE else f"define/fields/{known.id}"


def _asked_of_people(catalogue: Catalogue) -> Iterator[Field]:
    for known in catalogue.fields_about(PERSON):
        if known.stores and not known.settings.resting and not known.by_itself:
            yield known


def _broken(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A formula, rule or segment that does not work any more."""
    for field_id, name, message, path in facts.broken:
        yield Finding("broken", field_id, f"{name}: {message}", "Mend it", path)


def _never_collected(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """No form asks it, and it is not private to staff."""
    for known in _asked_of_people(catalogue):
        if not facts.collected.get(known.id) and not known.settings.private:
            yield Finding("never-collected", known.id, f"No form asks for {known.label}.", "Ask it", "collect")


def _never_used(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """Nothing is made of it."""
    for known in _asked_of_people(catalogue):
        if not facts.used.get(known.id) and not known.built_in:
            message = f"{known.label} is kept, and nothing uses it."
            yield Finding("never-used", known.id, message, "Use it in a segment", "sift/new")


def _almost_empty(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """Fewer than one in twenty have a value."""
    if facts.people < 20:
        return
    for known in _asked_of_people(catalogue):
        filled = facts.filled.get(known.id, 0)
        if facts.collected.get(known.id) and filled * 20 < facts.people:
            have, people = catalogue.manner.figure(filled), catalogue.manner.figure(facts.people)
            message = f"{known.label} is almost always empty: {have} of {people} have a value."
            yield Finding("almost-empty", known.id, message, "Pause it", _at(known))


def _default_lost(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A default that is no option, or that the field would not take."""
    for known in catalogue.all_fields:
        if known.settings.default and known.stores:
            try:
                known.parse(known.settings.default)
            except ValueError:
                message = f"The default of {known.label}, “{known.settings.default}”, is not among its options."
                yield Finding("default-lost", known.id, message, "Choose another", _at(known))


def _retired_named(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A retired option that a rule or segment still names."""
    for field_id, option, place in facts.retired_named:
        message = f"“{option}” is retired, and still named in {place}."
        yield Finding("retired-named", field_id, message, "Look at it", f"define/fields/{field_id}")


def _about_rules(facts: Facts, code: str, kind: str, action: str) -> Iterator[Finding]:
    for one in facts.rules:
        if one.finding.kind == kind:
            path = f"collect/{one.form_id}?q={one.finding.place}"
            yield Finding(code, one.field_id, f"In {one.form}: {one.finding.message}", action, path)


def _asked_later(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A rule about a question that the form asks later."""
    return _about_rules(facts, "asked-later", "later", "Change the order")


def _never_true(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A rule of a form that can never be true."""
    return _about_rules(facts, "rule-never", "never", "Look at the rule")


def _contradiction(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A rule of a form that another rule of it contradicts: an unreachable question."""
    return _about_rules(facts, "rule-contradicts", "contradicts", "Look at the rule")


def _always_true(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A rule of a form that is always true, and so says nothing."""
    return _about_rules(facts, "rule-always", "always", "Look at the rule")


def _twins(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """Two fields that seem to mean the same, by what they are called."""
    for known, other in alike(known for known in catalogue.all_fields if known.stores or known.derived):
        if known.stores:
            message = f"{known.label} and {other.label} ({other.key}) seem to mean the same."
            yield Finding("same-meaning", known.id, message, "Compare them", "define/compare")


def _title_twins(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A field of a record that repeats what names it."""
    for known, title in title_twins(catalogue):
        message = f"{known.label} seems to say what {title.label} says, which names the record."
        yield Finding("title-twin", known.id, message, "Use the one that names it", _at(known))


def _untyped_records(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A choice among records whose kind is gone."""
    for known in untyped_records(catalogue):
        message = f"{known.label} offers records, and it is not said of which kind."
        yield Finding("record-untyped", known.id, message, "Choose the record type", _at(known))


def _status_kept(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A status kept by hand beside the date that decides it."""
    for known, deciding in statuses_beside_dates(catalogue):
        message = f"{known.label} is kept by hand, and {deciding.label} decides it: one of them will be wrong some day."
        yield Finding("status-kept", known.id, message, "Derive it from the date", "compute/new")


def _unjoined(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A list that no form puts anybody on."""
    for name in unjoined(catalogue, facts.joined):
        yield Finding("list-unjoined", 0, f"No form puts anybody on the list {name}.", "Let a form do so", "collect")


def _open_forms(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A form by which anyone, strangers too, sets house values."""
    for form_id, title in facts.open_forms:
        message = f"Anyone who fills in “{title}” changes house values, strangers too."
        yield Finding("form-sets-house", 0, message, "Say who may", f"define/mapping/{form_id}")


def _built_in_twin(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A hand-made twin of a built-in field."""
    for known in catalogue.fields_about(PERSON):
        found = None if known.built_in else twin_of(known.label)
        if found is not None:
            twin, part = found
            message = f"{known.label} repeats the built-in {twin.label}. {twin.behaviour}"
            there = catalogue.by_key.get(twin.key)
            place = _at(there) if there is not None else f"define/built-in?part={part.key}"
            yield Finding("built-in-twin", known.id, message, "Use the built-in one", place)


def _age_kept(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """An age kept as a number: it is wrong from the next birthday on."""
    for known in catalogue.fields_about(PERSON):
        words = set(re.findall(r"[^\W_]+", known.label.lower()))
        if known.stores and known.type_key in ("number", "short_text") and words & {"age", "alter"}:
            message = f"{known.label} is kept as it was on one day, and is wrong from the next birthday on."
            yield Finding("age-kept", known.id, message, "Ask for the date of birth, and compute it", _at(known))


_JOINING: Final = frozenset(("joined", "joining", "join", "subscribed", "subscription", "since"))


def _joining_kept(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A day of joining a list that is kept by hand: the list can keep it by itself."""
    for known in catalogue.fields_about(PERSON):
        words = set(re.findall(r"[^\W_]{3,}", known.label.lower()))
        by_hand = known.stores and not known.built_in and known.settings.joined_list is None
        if not by_hand or known.value_type.kind not in ("date", "datetime") or not words & _JOINING:
            continue
        for one in catalogue.lists:
            if words & set(re.findall(r"[^\W_]{3,}", one.name.lower())) - _JOINING:
                message = f"{known.label} is kept by hand, and {one.name} can keep the day of joining by itself."
                yield Finding("joining-kept", known.id, message, "Let the list keep it", "define/lists")
                break


def _pages_unread(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A page in force that nobody can see."""
    for page in facts.pages:
        if page.readers == 0:
            message = f"Nobody can see the page {page.title}: it is for no one who is here."
            yield Finding("page-unread", 0, message, "Say who may read it", f"follow-up/pages/{page.id}")


def _pages_blank(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A placeholder of a page that is blank for more than a tenth of its readers, and has no fallback."""
    for page in facts.pages:
        for expression, share in often_blank(page):
            known = catalogue.by_key.get(expression.strip())
            name = known.label if known is not None else f"{{{expression}}}"
            message = f"On the page {page.title}, {name} is blank for {share} % of those who read it."
            yield Finding("page-blank", 0, message, "Give it a fallback", f"follow-up/pages/{page.id}")


def _rates_missing(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A tax class that something is sold by, and that has no rate where the house is: it cannot be ordered."""
    shop = catalogue.shop
    if shop is None:
        return
    used = [one.tax_class for one in shop.products] + [one.tax_class for one in (*shop.delivery, *shop.payment)]
    for tax_class in dict.fromkeys(one for one in used if one != UNTAXED):
        if shop.rate(tax_class, shop.place(), date.max) is None:
            label = shop.tax_classes[tax_class]
            message = f"Nothing of the tax class {label} can be ordered: it has no rate where the house is."
            yield Finding("rate-missing", 0, message, "Give it a rate, in the file of the shop", "define/file")


def _numbered_twins(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """Bed 1, Bed 2, Bed 3: a person has several of something."""
    for field_id, (_, same) in numbered(catalogue.fields_about(PERSON)).items():
        if field_id == same[0].id:
            labels = ", ".join(known.label for known in same[:4])
            message = f"{labels}: a person seems to have several of these."
            yield Finding(
                "numbered-twins", field_id, message, "Make records of them", f"define/fields/{field_id}/gather"
            )


def _few_answers(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A text that has few different values is a choice."""
    for known in catalogue.fields_about(PERSON):
        distinct, filled = facts.distinct.get(known.id, 0), facts.filled.get(known.id, 0)
        if known.type_key == "short_text" and not known.built_in and 1 < distinct <= 12 and filled >= 10 * distinct:
            people = catalogue.manner.figure(filled)
            message = f"{known.label} is a text with only {distinct} different answers from {people} people."
            yield Finding("few-answers", known.id, message, "Make it a choice", f"define/fields/{known.id}/type")


_MANY: Final = 10
"""So many moments of one and the same time of day are no chance."""


def _time_unused(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A moment whose time of day is always the same, and so means nothing."""
    for known in _asked_of_people(catalogue):
        filled = facts.filled.get(known.id, 0)
        if known.type_key == "datetime" and filled >= _MANY and facts.times.get(known.id) == 1:
            people = catalogue.manner.figure(filled)
            message = f"{known.label} has the same time of day for all {people} people, so the time says nothing."
            yield Finding("time-unused", known.id, message, "Make it a date", f"define/fields/{known.id}/type")


def _house_awaited(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """A house value that is used and still blank."""
    for known in catalogue.fields_about(HOUSE):
        if known.id in facts.blank_house and facts.used.get(known.id):
            message = f"{known.label} is blank, and stands in {facts.used[known.id][0]}."
            yield Finding("house-awaited", known.id, message, "Give it a value", _at(known))


_REPEATED: Final = re.compile(r"https?://[^\s{}<>\"]+|\b\d[\d,.]{3,}\d\b")


def _repeated(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """The same link or figure typed into several texts."""
    counts: Counter[str] = Counter()
    for _, text in facts.texts:
        counts.update(set(_REPEATED.findall(text)))
    for word, count in counts.items():
        if count > 1:
            message = f"“{word.rstrip('.,')}” is typed into {count} texts."
            yield Finding("typed-often", 0, message, "Make it a house value", "define/house/new")


def _tag_family(catalogue: Catalogue, facts: Facts) -> Iterator[Finding]:
    """Tags that behave like a field."""
    for stem, people in facts.families:
        message = f"The tags “{stem}…” exclude each other for {catalogue.manner.figure(people)} people, like steps."
        yield Finding("tag-family", 0, message, "Turn them into a field", f"define/tags/family?stem={stem}")


Weight = Literal["wrong", "doubtful", "unused"]
WEIGHTS: Final[dict[str, Weight]] = {
    **dict.fromkeys(
        (
            "broken",
            "house-awaited",
            "default-lost",
            "retired-named",
            "rule-never",
            "rule-contradicts",
            "asked-later",
            "record-untyped",
            "rate-missing",
        ),
        "wrong",
    ),
    **dict.fromkeys(("almost-empty", "never-collected", "never-used"), "unused"),
}
"""How heavy a finding is, by its code; what is not named is doubtful."""


def weight_of(one: Finding) -> Weight:
    """Whether something is wrong, doubtful, or merely unused."""
    return WEIGHTS.get(one.code, "doubtful")


Finder = Callable[[Catalogue, Facts], Iterator[Finding]]
FINDINGS: Final[dict[str, Finder]] = {
    "broken": _broken,
    "house-awaited": _house_awaited,
    "default-lost": _default_lost,
    "retired-named": _retired_named,
    "rule-never": _never_true,
    "rule-contradicts": _contradiction,
    "asked-later": _asked_later,
    "built-in-twin": _built_in_twin,
    "same-meaning": _twins,
    "title-twin": _title_twins,
    "record-untyped": _untyped_records,
    "form-sets-house": _open_forms,
    "status-kept": _status_kept,
    "numbered-twins": _numbered_twins,
    "rate-missing": _rates_missing,
    "page-unread": _pages_unread,
    "page-blank": _pages_blank,
    "age-kept": _age_kept,
    "joining-kept": _joining_kept,
    "few-answers": _few_answers,
    "time-unused": _time_unused,
    "tag-family": _tag_family,
    "typed-often": _repeated,
    "list-unjoined": _unjoined,
    "rule-always": _always_true,
    "almost-empty": _almost_empty,
    "never-collected": _never_collected,
    "never-used": _never_used,
}
"""What is looked for, by code, the weightiest first; docs and tests walk it."""
