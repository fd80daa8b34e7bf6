"""What keeps a form from being published, each at its place."""

from collections.abc import Iterator
from dataclasses import dataclass

from finesieve.core.commerce.shop import sold_in
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import AMONG, Form, Question, Remark, Repeat, Section
from finesieve.core.forms.prepare import (
    asked_about,
    compile_form,
    form_world,
    resolve,
    section_world,
    unit_needs,
)
from finesieve.core.language.checker import check, say_kind
from finesieve.core.language.derived import find_circle
from finesieve.core.language.names import World
from finesieve.core.language.placeholders import placeholder_problems
from finesieve.core.language.problems import Problem
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue, hidden_groups
from finesieve.core.model.checks import CHECK_KINDS, Check, SameCheck, check_expression, kinds_for
from finesieve.core.values import Kind

__all__ = ["FormProblem", "check_fits", "form_problems", "label_of", "rule_of", "rule_problems", "text_problems"]


@dataclass(frozen=True, slots=True)
class FormProblem:
    """Something that keeps a form from being published, at a section, a question or remark, or (id "") the whole.

    `part` says at what of it: see `Form.walk_rules`.
    """

    place: str
    message: str
    problems: tuple[Problem, ...] = ()
    part: str = ""


def rule_problems(
    text: str, form: Form, catalogue: Catalogue, section: Section | None = None, *, number: bool = False
) -> tuple[Problem, ...]:
    """What is wrong with a rule, or a formula for a `number`, that stands in a form; in a section, if one is given."""
    world = form_world(form, catalogue)
    inner = section_world(world, section) if section else world
    checked = check(text, inner, zone=catalogue.zone, expect=None if number else "yes_no")
    typed = checked.typed
    if number and typed is not None and typed.type.kind not in ("number", "money"):
        message = f"This gives {say_kind(typed.type.kind)}; here a number is needed."
        return (Problem("wrong-type", typed.span, message),)
    return checked.problems


def text_problems(text: str, form: Form, catalogue: Catalogue, section: Section | None) -> tuple[Problem, ...]:
    """What is wrong with the placeholders of a text that is read where a section is filled in."""
    world = form_world(form, catalogue)
    inner = section_world(world, section) if section else world
    return placeholder_problems(text, lambda part: check(part, inner, zone=catalogue.zone))


def rule_of(text: str, form: Form, catalogue: Catalogue, section: Section | None = None) -> Typed | None:
    """The checked form of a rule that stands in a form; None where there is none, or it has problems."""
    if not text:
        return None
    world = form_world(form, catalogue)
    return check(text, section_world(world, section) if section else world, zone=catalogue.zone).typed


def _label_problems(question: Question, section: Section, form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    for one in question.surcharges:
        problems = text_problems(one.label, form, catalogue, section) if "{" in one.label else ()
        if problems:
            message = f"In “{one.label[:60]}”: {problems[0].message}"
            yield FormProblem(question.id, message, problems, "surcharge")


def form_problems(form: Form, catalogue: Catalogue) -> tuple[FormProblem, ...]:
    """All that keeps the form from being published."""
    found: list[FormProblem] = []
    if not form.questions:
        found.append(FormProblem("", "The form asks nothing yet; add a question."))
    world = form_world(form, catalogue)
    for section in form.sections:
        found += _section_problems(section, form, catalogue)
        inner = section_world(world, section)
        for item in section.items:
            if isinstance(item, Question):
                found += _question_problems(item, section, form, catalogue)
                found += _label_problems(item, section, form, catalogue)
        found += _rules_of_section(section, form, catalogue, world, inner)
    found += _checkout_problems(form, catalogue)
    found += _circles(form, catalogue)
    found += _email_problems(form, catalogue)
    return tuple(found)


def _checkout_problems(form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    """What a checkout needs, and what no other form can have."""
    checkout, shop = form.channel == "checkout", catalogue.shop
    if checkout and shop is None:
        yield FormProblem("", "There is no shop here for a checkout.")
    asked = [catalogue.by_id[one.field_id] for section in form.sections if not section.repeat
             for one in section.questions if one.field_id in catalogue.by_id]  # fmt: skip
    keys = [one.key for one in asked]
    for question in form.questions:
        known = catalogue.by_id.get(question.field_id)
        if known is not None and known.about == ORDER and keys.count(known.key) > 1:
            yield FormProblem(question.id, f"A field of the person is called {known.key}, too; ask one of the two.")
        for number, one in enumerate(question.surcharges):
            part = f"surcharge:{number}"
            if one.share is not None and not checkout:
                yield FormProblem(question.id, "A share is taken of a cart, which only a checkout has.", part=part)
            if one.tax_class and (shop is None or one.tax_class not in shop.tax_classes):
                yield FormProblem(question.id, f"There is no tax class {one.tax_class}.", part=part)


def _section_problems(section: Section, form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    repeat = section.repeat
    if repeat is None:
        return
    known = catalogue.record_types_by_id.get(repeat.record_type)
    if known is None:
        yield FormProblem(section.id, "The kind of record that this section adds is gone; choose another.")
        return
    links = [link for link in known.links if link.target == PERSON]
    if not links:
        yield FormProblem(section.id, f"{known.plural} are not linked with people, so a form cannot add them.")
    elif repeat.link and all(link.id != repeat.link for link in links):
        yield FormProblem(section.id, "The link between the record and the person is gone; choose another.")
    if repeat.per:
        yield from _cart_problems(section, repeat, form, catalogue)


def _cart_problems(section: Section, repeat: Repeat, form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    """What a section that is asked per line or piece needs."""
    shop = catalogue.shop
    if form.channel != "checkout" or shop is None:
        yield FormProblem(section.id, "Only the checkout of a shop has lines and pieces.")
        return
    sold = sold_in(shop)
    for what in AMONG:
        for key in getattr(repeat.among, what):
            if key not in sold[what]:
                yield FormProblem(section.id, f"The shop sells nothing with the key “{key}”; untick it.")


def _question_problems(question: Question, section: Section, form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    known = catalogue.by_id.get(question.field_id)
    if known is None or known.derived:
        label = next((one.label for one in catalogue.deleted if one.id == question.field_id), "")
        lost = f"The field “{label}” was deleted; bring it back, or" if label else "The field is gone;"
        yield FormProblem(question.id, f"{lost} remove the question.")
        return
    if known.about not in asked_about(form, section):
        yield FormProblem(
            question.id, f"“{known.label}” is about {catalogue.say_about(known.about)}; it does not belong here."
        )
    if known.settings.private or known.group_id in hidden_groups(catalogue):
        yield FormProblem(question.id, f"“{known.label}” is private to staff and cannot be asked here.")
    for place, test in enumerate(question.checks):
        message = _check_problem(test, known, question, form, catalogue)
        if message:
            yield FormProblem(question.id, message, part=f"check:{place}")
    known_options = {option.stored_value for option in known.options}
    for option in question.options_when:
        if option not in known_options:
            yield FormProblem(
                question.id, f"There is no option “{option}” any more; its rule has no place.", part=f"option:{option}"
            )


def check_fits(test: Check, known: Field) -> bool:
    """Whether this kind of check makes sense for the field."""
    return test.kind in kinds_for(known.value_type.kind)


def _check_problem(test: Check, known: Field, question: Question, form: Form, catalogue: Catalogue) -> str:
    found = resolve(test, catalogue)
    if found is None:
        return "The check of the library is gone; choose another."
    if not check_fits(found, known):
        return f"“{CHECK_KINDS[found.kind]}” does not fit a field of type {known.type.label.lower()}."
    if isinstance(found, SameCheck):
        other = form.question(found.question)
        its = catalogue.by_id.get(other.field_id) if other else None
        if other is None or its is None or other.id == question.id:
            return "The question to compare with is gone; choose another."
        if its.value_type.kind != known.value_type.kind:
            return f"“{other.label or its.label}” is of another type, so the answers are never the same."
    return ""


def _rules_of_section(
    section: Section, form: Form, catalogue: Catalogue, world: World, inner: World
) -> Iterator[FormProblem]:
    for place, part, text in section.walk_rules():
        where = world if place == section.id else inner
        expect: Kind | None = None if part == "count" or part.startswith("surcharge") else "yes_no"
        checked = check(text, where, zone=catalogue.zone, expect=expect)
        words = {"count": "The number of times", "surcharge": "The surcharge", "check": "The check"}.get(
            part.partition(":")[0], "The rule"
        )
        if checked.problems:
            yield FormProblem(place, f"{words} cannot be read.", checked.problems, part)
        elif checked.typed is not None and expect is None and checked.typed.type.kind not in ("number", "money"):
            yield FormProblem(place, f"{words} must be a number.", part=part)
    for item in section.items:
        for number, test in enumerate(item.checks if isinstance(item, Question) else ()):
            yield from _made_of_check(item.id, number, test, item, catalogue, inner)


def _made_of_check(
    place: str, number: int, test: Check, item: Question | Remark, catalogue: Catalogue, world: World
) -> Iterator[FormProblem]:
    """A check that says itself as an expression is read like any other."""
    known = catalogue.by_id.get(item.field_id) if isinstance(item, Question) else None
    found = resolve(test, catalogue)
    if known is None or found is None or found.kind == "condition" or not check_fits(found, known):
        return
    text = check_expression(found, known.key, known.value_type.kind)
    problems = check(text, world, zone=catalogue.zone, expect="yes_no").problems if text else ()
    if problems:
        yield FormProblem(place, "The check cannot be read.", problems, f"check:{number}")


def _circles(form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    circle = find_circle(unit_needs(compile_form(form, catalogue).sections, catalogue))
    if circle:
        labels = [label_of(form, catalogue, one) for one in circle]
        yield FormProblem(circle[0], f"These rules wait for one another: {' → '.join(labels)}.")


def label_of(form: Form, catalogue: Catalogue, place: str) -> str:
    """What a section, question or remark is called."""
    section, item = form.section(place), form.item(place)
    if section is not None:
        return section.title or "a section without a title"
    if isinstance(item, Question):
        known = catalogue.by_id.get(item.field_id)
        return item.label or (known.label if known else place)
    return item.text[:40] if item else place


def _email_problems(form: Form, catalogue: Catalogue) -> Iterator[FormProblem]:
    """A person is known by the built-in email, so a sign-up asks for it, always, and insists."""
    email = catalogue.by_key["email"].id if "email" in catalogue.by_key else 0
    question = next((one for one in form.questions if one.field_id == email), None)
    if question is None:
        yield FormProblem("", "A sign-up must ask for the email; add that question.")
        return
    section = form.section_of(question.id)
    ruled = question.show_when or question.required_when or (section and (section.show_when or section.repeat))
    if ruled or question.required is False or question.hidden or question.only_if_unknown:
        yield FormProblem(question.id, "A person is known by the email: ask it always, and require it.")
    if question.passing:
        yield FormProblem(question.id, "A person is known by the email: it has to be kept.")
