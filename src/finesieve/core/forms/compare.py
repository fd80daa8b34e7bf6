"""What two documents of a form differ in, in words that people read."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Final, Literal

from finesieve.core.forms.definition import AMONG, TIDYINGS, Form, Question, Remark, Section
from finesieve.core.forms.joining import say_effect
from finesieve.core.forms.page import SLOTS, slot_of
from finesieve.core.forms.problems import label_of
from finesieve.core.forms.showing import SHOWN_AT
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.checks import say_check
from finesieve.core.values import plain_number

__all__ = ["FormDifference", "compare_forms"]


@dataclass(frozen=True, slots=True)
class FormDifference:
    """One thing that differs: where, what of it, and how it was and is. `kind`: added, removed, moved, changed."""

    kind: Literal["added", "removed", "moved", "changed"]
    place: str
    where: str
    what: str = ""
    before: str = ""
    after: str = ""


_FORM: Final = {
    "title": "title",
    "intro": "introduction",
    "send_label": "button",
    "title_known": "title for who is known",
    "send_known": "button for who is known",
    "thanks": "text after sending",
    "stepped": "one step a section",
    "challenge": "human challenge",
    "account": "account with the order",
    "embed_on": "sites that may embed it",
    "tell": "address that is told of orders",
    "languages": "languages",
}
_ITEM: Final = {
    "title": "title",
    "intro": "introduction",
    "text": "text",
    "kind": "kind",
    "label": "wording",
    "help": "help",
    "sample": "sample text",
    "width": "width",
    "default": "default",
    "required": "whether it is required",
    "required_when": "required when",
    "show_when": "shows when",
    "hidden": "hidden",
    "prefill": "begins with what is known",
    "parameter": "address parameter",
    "only_if_unknown": "only if unknown",
    "passing": "not kept on the person",
    "tidy": "tidying",
    "shown_at": "where the answer shows",
    "later": "may be changed later",
    "menu": "menu",
    "bare": "sample text in place of the label",
    "field_id": "field",
}


def compare_forms(before: Form, after: Form, catalogue: Catalogue) -> tuple[FormDifference, ...]:
    """The differences, those of the form first, then in the order of the later document."""
    return (*_of_form(before, after), *_of_lists(before, after, catalogue), *_of_parts(before, after, catalogue))


def _of_form(before: Form, after: Form) -> Iterator[FormDifference]:
    for name, words in _FORM.items():
        old, new = getattr(before, name), getattr(after, name)
        if old != new:
            yield FormDifference("changed", "", "The form", words, _say(old), _say(new))
    for language in dict.fromkeys((*before.phrases, *after.phrases)):
        old_phrases, new_phrases = before.phrases.get(language, {}), after.phrases.get(language, {})
        changed = {key for key in {*old_phrases, *new_phrases} if old_phrases.get(key) != new_phrases.get(key)}
        if changed:
            what = f"texts in {language}"
            yield FormDifference("changed", "", "The form", what, "", f"{len(changed)} of them")


def _of_lists(before: Form, after: Form, catalogue: Catalogue) -> Iterator[FormDifference]:
    """The lists that whoever sends it is put on, by name; one that is gone is left out."""
    old, new = (", ".join(one.name for one in catalogue.lists if one.id in form.joins) for form in (before, after))
    if old != new:
        yield FormDifference("changed", "", "The form", "lists joined by sending it", old or "none", new or "none")


Part = Section | Question | Remark


def _parts(form: Form) -> dict[str, Part]:
    found: dict[str, Part] = {}
    for section in form.sections:
        found[section.id] = section
        found |= {item.id: item for item in section.items}
    return found


def _of_parts(before: Form, after: Form, catalogue: Catalogue) -> Iterator[FormDifference]:
    old, new = _parts(before), _parts(after)
    for place in old:
        if place not in new:
            yield FormDifference("removed", place, label_of(before, catalogue, place))
    moved = _moved(before, after)
    for place, part in new.items():
        where = label_of(after, catalogue, place)
        if place not in old:
            yield FormDifference("added", place, where)
            continue
        if place in moved:
            yield FormDifference("moved", place, where)
        for what, then, now in _changes(old[place], part, after, catalogue):
            yield FormDifference("changed", place, where, what, then, now)


def _moved(before: Form, after: Form) -> set[str]:
    """The items that stand after another one than before, those that were only pushed along left out."""
    old = [(section.id, item.id) for section in before.sections for item in section.items]
    new = [(section.id, item.id) for section in after.sections for item in section.items]
    homes_then, homes_now = {item: home for home, item in old}, {item: home for home, item in new}
    both = [item for _, item in old if item in homes_now]
    now = [item for _, item in new if item in homes_then]
    kept = _longest_common(both, now)
    return {item for item in now if item not in kept or homes_then[item] != homes_now[item]}


def _longest_common(first: list[str], second: list[str]) -> set[str]:
    """The longest run of ids that stand in both in the same order."""
    places = {item: place for place, item in enumerate(second)}
    lengths: list[int] = []
    back: list[int] = []
    for here, item in enumerate(first):
        best = max(
            (there for there in range(here) if places[first[there]] < places[item]),
            key=lambda there: lengths[there],
            default=-1,
        )
        lengths.append(1 + (lengths[best] if best >= 0 else 0))
        back.append(best)
    found: set[str] = set()
    place = max(range(len(first)), key=lambda one: lengths[one], default=-1)
    while place >= 0:
        found.add(first[place])
        place = back[place]
    return found


def _changes(before: Part, after: Part, form: Form, catalogue: Catalogue) -> Iterator[tuple[str, str, str]]:
    for name, words in _ITEM.items():
        old, new = getattr(before, name, None), getattr(after, name, None)
        if old != new:
            yield words, _named(name, old, catalogue), _named(name, new, catalogue)
    if isinstance(before, Section) and isinstance(after, Section):
        if slot_of(before.slot) != slot_of(after.slot):
            yield "place on the page", SLOTS[slot_of(before.slot)].label, SLOTS[slot_of(after.slot)].label
        if before.repeat != after.repeat:
            yield "repeat", _repeat(before, catalogue), _repeat(after, catalogue)
    if isinstance(before, Question) and isinstance(after, Question):
        yield from _question(before, after, catalogue)


def _question(before: Question, after: Question, catalogue: Catalogue) -> Iterator[tuple[str, str, str]]:
    names = {one.id: one.name for one in catalogue.checks.values()}
    unit = catalogue.by_id[after.field_id].unit if after.field_id in catalogue.by_id else ""
    said = [[f"must {say_check(check, unit, names)}" for check in one.checks] for one in (before, after)]
    yield from _lists("check", *said)
    messages = [[check.message for check in one.checks] for one in (before, after)]
    if messages[0] != messages[1] and said[0] == said[1]:
        yield "what a check says", "; ".join(messages[0]), "; ".join(messages[1])
    charged = [[_surcharge(one) for one in question.surcharges] for question in (before, after)]
    yield from _lists("surcharge", *charged)
    known = catalogue.by_id.get(after.field_id)
    effects = [[say_effect(one, known, catalogue) for one in question.lists] for question in (before, after)]
    yield from _lists("lists", *effects)
    for option in dict.fromkeys((*before.options_when, *after.options_when)):
        old, new = before.options_when.get(option, ""), after.options_when.get(option, "")
        if old != new:
            yield f"option {option} shows when", old, new


def _lists(what: str, before: list[str], after: list[str]) -> Iterator[tuple[str, str, str]]:
    if before != after:
        gone = [one for one in before if one not in after]
        new = [one for one in after if one not in before]
        yield what, "; ".join(gone), "; ".join(new)


def _surcharge(one: Any) -> str:
    bounds = [
        f"{word} {plain_number(bound)}" for word, bound in (("at least", one.low), ("at most", one.high)) if bound
    ]
    when = f" for {one.option}" if one.option else ""
    return ", ".join([f"{one.label}{when}: {one.amount}", *bounds, *([] if one.taxed else ["untaxed"])])


def _repeat(section: Section, catalogue: Catalogue) -> str:
    if section.repeat is None:
        return ""
    known = catalogue.record_types_by_id.get(section.repeat.record_type)
    kind = known.singular.lower() if known else "record"
    if section.repeat.per:
        meant = ", ".join(one for named in AMONG for one in getattr(section.repeat.among, named))
        return f"a {kind} for each {section.repeat.per} of {meant or 'everything'}"
    times = section.repeat.count or f"{section.repeat.least} to {section.repeat.most}"
    return f"once for each {kind}, {times} times"


def _named(name: str, value: Any, catalogue: Catalogue) -> str:
    if name == "field_id":
        known = catalogue.by_id.get(value)
        return known.label if known else ""
    if name == "required":
        return {None: "as the field says", True: "required", False: "optional"}[value]
    if name == "shown_at":
        return "the usual places" if value is None else ", ".join(SHOWN_AT[one].lower() for one in value) or "nowhere"
    if name == "tidy":
        return ", ".join(TIDYINGS[one].lower() for one in value or ())
    return _say(value)


_YES_NO: Final[Mapping[bool, str]] = {True: "yes", False: "no"}


def _say(value: Any) -> str:
    if isinstance(value, bool):
        return _YES_NO[value]
    return ", ".join(value) if isinstance(value, tuple) else str(value or "")
