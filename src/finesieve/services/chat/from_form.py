"""A form taken as a chat script: its questions, their checks and when they show; what cannot be taken is told."""

from collections.abc import Iterator
from typing import Any

from finesieve.core.chat.script import Script
from finesieve.core.forms.definition import Form, Question
from finesieve.core.model.catalogue import Catalogue
from finesieve.services.chat.scripts import create_script
from finesieve.services.chat.writing import change_script_settings
from finesieve.services.forms.forms import read_form
from finesieve.services.kernel.scope import Scope

__all__ = ["script_from_form"]


def script_from_form(scope: Scope, form_id: int, title: str) -> tuple[int, tuple[str, ...]]:
    """Make a script of a form’s questions; gives its id, and in words what was left out.

    Raises NotFound, and InvalidInput for a title that will not do.
    """
    view = read_form(scope, form_id)
    steps, left = _taken(view.document, view.catalogue)
    with scope.transaction("editor"):
        script_id = create_script(scope, title)
        parts = {"steps": steps, "languages": list(view.document.languages), "phrases": view.document.phrases}
        document = Script.model_validate({"title": title.strip(), **parts})
        change_script_settings(scope, script_id, 0, document.model_dump(mode="json"))
    return script_id, tuple(left)


def _taken(form: Form, catalogue: Catalogue) -> tuple[list[dict[str, Any]], list[str]]:
    steps: list[dict[str, Any]] = []
    left: list[str] = []
    if form.intro:
        steps.append({"kind": "say", "texts": [{"text": form.intro}]})
    for section in form.sections:
        name = section.title or "A section"
        if section.repeat:
            left.append(f"{name}: it is asked again and again.")
            continue
        for question in section.questions:
            known = catalogue.by_id.get(question.field_id)
            if known is None or known.about != "person":
                left.append(f"{question.label or (known.label if known else name)}: it cannot be asked in a chat.")
                continue
            if question.hidden:
                left.append(f"{question.label or known.label}: it is not asked, but carried along.")
                continue
            left += _not_taken(question, known.label)
            rules = [rule for rule in (section.show_when, question.show_when) if rule]
            rule = " and ".join(f"({one})" for one in rules) if len(rules) > 1 else "".join(rules)
            insists = known.required if question.required is None else question.required
            steps += _asked(question, known.label, rule, optional=not insists and not question.required_when)
    steps.append({"kind": "sum_up"})
    steps.append({"kind": "end", "text": form.thanks})
    return list(_numbered(steps)), left


def _not_taken(question: Question, label: str) -> list[str]:
    name = question.label or label
    found = [f"{name}: its surcharges."] if question.surcharges else []
    found += [f"{name}: what it does to lists."] if question.lists else []
    found += [f"{name}: when it is required."] if question.required_when else []
    found += [f"{name}: the rules of its options."] if any(question.options_when.values()) else []
    return found


def _asked(question: Question, label: str, rule: str, *, optional: bool) -> list[dict[str, Any]]:
    checks = [one.model_dump(mode="json") for one in question.checks if one.kind not in ("same", "unique")]
    ask = {
        "kind": "ask", "text": question.label or label, "field_id": question.field_id, "optional": optional,
        "checks": checks, "known": "skip" if question.only_if_unknown else "ask",
    }  # fmt: skip
    return [{"kind": "branch", "cases": [{"rule": rule}]}, {**ask, "under": "?"}] if rule else [ask]


def _numbered(steps: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    case = 0
    for number, step in enumerate(steps, 1):
        made = {**step, "id": f"l{number}"}
        if "cases" in made:
            case += 1
            made["cases"] = [{**one, "id": f"c{case}"} for one in made["cases"]]
        if made.get("under") == "?":
            made["under"] = f"c{case}"
        yield made
