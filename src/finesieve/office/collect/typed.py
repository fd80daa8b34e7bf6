"""What is typed into the settings of a question, section or remark: from the document to inputs, and back."""

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Final

from finesieve.core.fields.about import ORDER
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.forms.definition import AMONG, Question, Remark, Section, Surcharge
from finesieve.core.forms.prepare import section_about
from finesieve.core.language.problems import Problem
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.checks import Bound, Check, ConditionCheck, DateCheck, NamedCheck, PatternCheck, SameCheck
from finesieve.core.values import plain_number
from finesieve.office.collect.cart_words import with_cart, with_line
from finesieve.office.shared.collect import OFFERED_LANGUAGES
from finesieve.office.shared.rules import RuleEditor, posted_rule, stored_rule
from finesieve.office.shared.sentences import (
    Vocabulary,
    being_chosen,
    draft_from_text,
    plain_words,
    words_about_people,
    words_of_records,
)
from finesieve.services.forms.composing import QuestionInput, RemarkInput, SectionInput
from finesieve.services.forms.forms import FormView
from finesieve.services.kernel.inputs import read_input
from finesieve.web.posted import PostedForm, whole_number

__all__ = [
    "TypedPart",
    "check_from_typed",
    "input_of",
    "posted_question",
    "posted_remark",
    "posted_section",
    "question_input",
    "remark_input",
    "say_condition",
    "section_input",
    "stored_part",
    "typed_check",
    "vocabulary",
]

MOST_OPTION_RULES: Final = 40
_FLAGS: Final = ("hidden", "prefill", "only_if_unknown", "passing", "later", "bare")


@dataclass(frozen=True)
class TypedPart:
    """The inputs of one part of a form: plain ones; checks, surcharges and lists by place; rules by name."""

    values: Mapping[str, str] = field(default_factory=dict)
    flags: frozenset[str] = frozenset()
    checks: tuple[Mapping[str, str], ...] = ()
    charges: tuple[Mapping[str, str], ...] = ()
    lists: tuple[Mapping[str, str], ...] = ()
    rules: Mapping[str, RuleEditor] = field(default_factory=dict)
    options: tuple[tuple[str, str, str], ...] = ()

    @property
    def pending(self) -> bool:
        """Whether something still lacks a word, and so is kept in the page only."""
        rules = any(not rule.complete for rule in self.rules.values())
        return (
            rules
            or any(map(blank_check, self.checks))
            or any(map(blank_charge, self.charges))
            or any(not one.get("list_id") for one in self.lists)
        )

    def get(self, name: str) -> str:
        """A plain input; "" where there is none."""
        return self.values.get(name, "")

    def flipped(self, name: str) -> "TypedPart":
        """The same with one rule shown the other way."""
        return replace(self, rules={**self.rules, name: self.rules[name].flipped()}) if name in self.rules else self

    def with_problems(self, name: str, problems: tuple[Problem, ...]) -> "TypedPart":
        """The same with what is wrong with one rule."""
        if name not in self.rules:
            return self
        return replace(self, rules={**self.rules, name: self.rules[name].with_problems(problems)})


def vocabulary(view: FormView, section: Section | None, own: int = 0, posted: PostedForm | None = None) -> Vocabulary:
    """What the rules of a part may speak of: all but its own field; and address parameters `posted` by name."""
    where = f"form={view.id}" + (f"&section={section.id}" if section else "")
    if section is not None and section.repeat:
        words = words_of_records(view.catalogue, section_about(section), without=own)
        return replace(with_line(words, view.catalogue) if section.repeat.per else words, where=where)
    words = words_about_people(view.catalogue, without=own)
    texts = posted.data.values() if posted is not None else ()
    named = {found[1] for text in texts if (found := _NAMED.fullmatch(text))}
    held = (view.catalogue.by_id.get(question.field_id) for question in view.document.questions)
    fields = being_chosen(words.fields, [one for one in held if one is not None and one.is_held])
    fields |= _of_the_page(view, named)
    made = replace(words, where=where, fields=fields, parameters=True)
    if view.document.channel != "checkout":
        return made
    asked = {question.field_id for question in view.document.questions}
    order = {one.key: one for one in view.catalogue.stored_about(ORDER) if one.id in asked}
    return with_cart(replace(made, fields={**fields, **order}), view.catalogue)


_NAMED: Final = re.compile(r"page\.([a-z][a-z0-9_]{0,39})")


def _of_the_page(view: FormView, posted: Collection[str]) -> dict[str, Field]:
    """The language of the page, and the address parameters that questions take or rules name."""
    languages = tuple(Option(OFFERED_LANGUAGES.get(one, one), one) for one in view.document.languages)
    named = {"page.language": Field(0, "page.language", "Language of the page", "short_text", 0, options=languages)}
    rules = (text for _, _, text in view.document.walk_rules())
    parameters = {question.parameter for question in view.document.questions if question.parameter} | set(posted)
    for text in rules:
        parameters |= set(re.findall(r"\bpage\.([a-z][a-z0-9_]*)", text.lower()))
    for name in sorted(parameters - {"language"}):
        named[f"page.{name}"] = Field(0, f"page.{name}", f"Address parameter {name}", "short_text", 0)
    return named


def input_of(path: str, options: Sequence[tuple[str, str, str]] = ()) -> str:
    """The name of the input where a problem at a path of a question is said: `checks.0.low` at `check0_low`."""
    what, _, rest = path.partition(".")
    if what in ("checks", "surcharges"):
        place, _, name = rest.partition(".")
        return f"{what.removesuffix('s').removeprefix('sur')}{place}_{name}"
    if what == "options_when":
        return next((name for name, option, _label in options if option == rest), path)
    return path


def blank_check(check: Mapping[str, str]) -> bool:
    """Whether a check has a kind, and nothing else yet."""
    kind = check.get("kind", "")
    given = any(value for name, value in check.items() if name not in ("kind", "message", "low_unit", "high_unit"))
    return kind != "unique" and not given


def blank_charge(charge: Mapping[str, str]) -> bool:
    """Whether a surcharge lacks its name, or both its amount and its share."""
    return not charge.get("label") or not (charge.get("amount") or charge.get("share"))


# From the document --------------------------------------------------------------------------


def stored_part(view: FormView, part: Section | Question | Remark, as_text: frozenset[str]) -> TypedPart:
    """The inputs of a part as the draft has it; the rules named in `as_text` as text."""
    if isinstance(part, Section):
        return _stored_section(view, part, as_text)
    section = view.document.section_of(part.id)
    own = part.field_id if isinstance(part, Question) else 0
    words = vocabulary(view, section, own)

    def rule(name: str, label: str, text: str) -> RuleEditor:
        return stored_rule(name, label, text, words, as_text=name in as_text)

    rules = {"show_when": rule("show_when", "Shows when", part.show_when)}
    if isinstance(part, Remark):
        return TypedPart({"kind": part.kind, "text": part.text}, rules=rules)
    rules["required_when"] = rule("required_when", "Required when", part.required_when)
    options = _options(view.field_of(part))
    for name, option, label in options:
        rules[name] = rule(name, f"{label} shows when", part.options_when.get(option, ""))
    checks = []
    for place, check in enumerate(part.checks):
        checks.append(typed_check(check))
        if isinstance(check, ConditionCheck):
            name = f"check{place}_expression"
            rules[name] = stored_rule(
                name, "The condition", check.expression, vocabulary(view, section), as_text=name in as_text
            )
    required = "when" if part.required_when else {None: "", True: "yes", False: "no"}[part.required]
    values = {name: str(getattr(part, name)) for name in ("label", "help", "sample", "width", "default", "parameter")}
    values["menu"] = "\n".join(part.menu)
    flags = frozenset((*(flag for flag in _FLAGS if getattr(part, flag)), *part.tidy))
    charges = tuple(_stored_charge(one) for one in part.surcharges)
    lists = tuple(
        {"list_id": str(one.list_id), "option": one.option, "way": "leave" if one.leave else ""} for one in part.lists
    )
    return TypedPart({**values, "required": required}, flags, tuple(checks), charges, lists, rules, options)


def _options(known: Field | None) -> tuple[tuple[str, str, str], ...]:
    """The rules of options: the name of the inputs, the stored value, the label."""
    offered = known.offered if known is not None else ()
    if len(offered) > MOST_OPTION_RULES:
        return ()
    return tuple((f"when{place}", option.stored_value, option.label) for place, option in enumerate(offered))


def _stored_section(view: FormView, part: Section, as_text: frozenset[str]) -> TypedPart:
    words = vocabulary(view, None)
    repeat = part.repeat
    values = {"title": part.title, "intro": part.intro, "repeat": str(repeat.record_type) if repeat else ""}
    if repeat:
        values |= {"link": str(repeat.link or ""), "count": repeat.count, "one": repeat.one}
        among = (f"{what}:{key}" for what in AMONG for key in getattr(repeat.among, what))
        values |= {"least": str(repeat.least), "most": str(repeat.most), "per": repeat.per, "among": " ".join(among)}
    rule = stored_rule("show_when", "Shows when", part.show_when, words, as_text="show_when" in as_text)
    return TypedPart(values, rules={"show_when": rule})


def typed_check(check: Check) -> dict[str, str]:
    """The inputs of a check."""
    found = {"kind": check.kind, "message": check.message}
    match check:
        case DateCheck(low=low, high=high):
            found |= _stored_bound("low", low) | _stored_bound("high", high)
        case PatternCheck(pattern=pattern):
            found["pattern"] = pattern
        case SameCheck(question=question):
            found["question"] = question
        case NamedCheck(check_id=check_id):
            found["check_id"] = str(check_id)
        case ConditionCheck(expression=expression):
            found["expression"] = expression
        case _:
            for name in ("low", "high"):
                bound = getattr(check, name, None)
                found[name] = "" if bound is None else plain_number(bound)
    return found


def _stored_bound(name: str, bound: Bound | None) -> dict[str, str]:
    if bound is None:
        return {f"{name}_way": ""}
    if bound.day is not None:
        return {f"{name}_way": "day", f"{name}_day": bound.day.isoformat()}
    way = "today" if not bound.amount else "before" if bound.amount < 0 else "after"
    return {f"{name}_way": way, f"{name}_amount": str(abs(bound.amount)), f"{name}_unit": bound.unit}


def _stored_charge(one: Surcharge) -> dict[str, str]:
    bounds = {
        name: "" if bound is None else plain_number(bound) for name, bound in (("low", one.low), ("high", one.high))
    }
    return {
        "label": one.label,
        "amount": one.amount,
        "share": plain_number(one.share) if one.share is not None else "",
        "basis": one.basis,
        "tax_class": one.tax_class,
        "option": one.option,
        "taxed": "yes" if one.taxed else "",
        **bounds,
    }


# From a post ---------------------------------------------------------------------------------


def posted_question(view: FormView, question: Question, form: PostedForm) -> TypedPart:
    """The inputs of a question as posted, after the button that was pressed."""
    section = view.document.section_of(question.id)
    words = vocabulary(view, section, question.field_id, form)
    rules = {
        "show_when": posted_rule(form, "show_when", "Shows when", words),
        "required_when": posted_rule(form, "required_when", "Required when", words),
    }
    options = _options(view.field_of(question))
    for name, _, label in options:
        rules[name] = posted_rule(form, name, f"{label} shows when", words)
    checks = _posted_list(form, "check")
    for place, check in enumerate(checks):
        if check["kind"] == "condition":
            name = f"check{place}_expression"
            rules[name] = posted_rule(form, name, "The condition", vocabulary(view, section, 0, form))
            check["expression"] = rules[name].text
    names = ("label", "help", "sample", "width", "default", "parameter", "required", "menu")
    values = {name: form.text(name) for name in names}
    flags = frozenset(form.texts("flag"))
    charges, lists = tuple(_posted_list(form, "charge")), tuple(_posted_list(form, "list"))
    return TypedPart(values, flags, tuple(checks), charges, lists, rules, options)


def _posted_list(form: PostedForm, what: str) -> list[dict[str, str]]:
    """Checks, surcharges or effects on lists by place, with one added or dropped where a button says so."""
    count = min(whole_number(form.text(f"{what}s")) or 0, 20)
    # The words of a condition's sentence are read by its rule editor.
    found = [
        {name: text for name, text in form.values(f"{what}{place}_").items() if not name.startswith("expression_")}
        for place in range(count)
    ]
    action, _, which = form.text("action").partition(":")
    place = whole_number(which)
    if action == f"add{what}":
        new = {"check": {"kind": form.text("new_check") or "condition"}, "charge": {"taxed": "yes"}}
        found.append(new.get(what, {}))
    elif action == f"drop{what}" and place is not None and place < len(found):
        found.pop(place)
    return [one for one in found if what != "check" or one.get("kind")]


def question_input(typed: TypedPart) -> QuestionInput:
    """What is saved of a question; parts that still lack something are left out. Raises InvalidInput."""
    options = {option: typed.rules[name].text for name, option, _ in typed.options}
    given: dict[str, Any] = {
        **typed.values,
        **{flag: flag in typed.flags for flag in _FLAGS},
        "show_when": typed.rules["show_when"].text,
        "required_when": typed.rules["required_when"].text,
        "options_when": options,
        "menu": tuple(typed.get("menu").splitlines()),
        "tidy": tuple(one for one in ("spaces", "lower", "upper", "capital") if one in typed.flags),
        "checks": tuple(check_from_typed(one) for one in typed.checks if not blank_check(one)),
        "surcharges": tuple(
            {**one, "taxed": one.get("taxed") == "yes"} for one in typed.charges if not blank_charge(one)
        ),
        "lists": tuple(
            {"list_id": one["list_id"], "option": one.get("option", ""), "leave": one.get("way") == "leave"}
            for one in typed.lists
            if one.get("list_id")
        ),
    }
    if given["required"] == "when" and not given["required_when"]:
        given["required"] = ""
    return read_input(QuestionInput, given)


def check_from_typed(typed: Mapping[str, str]) -> dict[str, Any]:
    """A check as it will be stored, from its inputs."""
    if typed.get("kind") != "date":
        return dict(typed)
    found: dict[str, Any] = {"kind": "date", "message": typed.get("message", "")}
    for name in ("low", "high"):
        way = typed.get(f"{name}_way", "")
        if way == "day":
            found[name] = {"day": typed.get(f"{name}_day") or None}
        elif way:
            amount = whole_number(typed.get(f"{name}_amount", "")) or 0
            signed = {"today": 0, "before": -amount, "after": amount}.get(way, 0)
            found[name] = {"amount": signed, "unit": typed.get(f"{name}_unit") or "days"}
    return found


def posted_section(view: FormView, form: PostedForm) -> TypedPart:
    """The inputs of a section as posted."""
    names = ("title", "intro", "repeat", "link", "per", "count", "least", "most", "one")
    rule = posted_rule(form, "show_when", "Shows when", vocabulary(view, None, 0, form))
    values = {name: form.text(name) for name in names}
    return TypedPart({**values, "among": " ".join(form.texts("among"))}, rules={"show_when": rule})


def section_input(typed: TypedPart) -> SectionInput:
    """What is saved of a section. Raises InvalidInput."""
    given: dict[str, Any] = {name: value for name, value in typed.values.items() if value}
    given["among"] = tuple(typed.get("among").split())
    return read_input(SectionInput, {**given, "show_when": typed.rules["show_when"].text})


def posted_remark(view: FormView, remark: Remark, form: PostedForm) -> TypedPart:
    """The inputs of a heading or note as posted."""
    words = vocabulary(view, view.document.section_of(remark.id), 0, form)
    rule = posted_rule(form, "show_when", "Shows when", words)
    return TypedPart({name: form.text(name) for name in ("kind", "text")}, rules={"show_when": rule})


def remark_input(typed: TypedPart) -> RemarkInput:
    """What is saved of a heading or note. Raises InvalidInput."""
    return read_input(RemarkInput, {**typed.values, "show_when": typed.rules["show_when"].text})


def say_condition(catalogue: Catalogue, text: str) -> str:
    """A condition in words, as its sentence says it; a formula stays as it is written."""
    sentence = draft_from_text(text, with_cart(words_about_people(catalogue), catalogue))
    return f" {sentence.joiner} ".join(plain_words(draft) for draft in sentence.drafts)
