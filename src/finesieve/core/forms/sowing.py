"""Questions against the options of a choice: for each, whether a question is required, optional or not asked.

What is set here are the ordinary rules of the questions; and rules that read nothing but that choice, however they were
written, are read back.
"""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, Final, Literal

from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form, Question
from finesieve.core.forms.prepare import form_world
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.names import World
from finesieve.core.language.printer import print_text_literal
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue

__all__ = ["NOBODY", "Asked", "asked_of", "must_ask", "name_in", "rules_for", "sowable"]

Asked = Literal["required", "optional", "not asked"]
NOBODY: Final = ""
"""The column of people for whom the choice is blank."""
_MOST: Final = 12


def name_in(form: Form, by: Field) -> str:
    """What rules of a form call a choice that questions are set against: what is being chosen, where it is asked."""
    asked = any(question.field_id == by.id for question in form.questions)
    return f"form.{by.key}" if asked and by.is_held else by.key


def sowable(field: Field) -> bool:
    """Whether questions can be set against this field: one choice among a few, kept on the person."""
    return field.type_key in ("choice", "progress") and field.stores and 0 < len(field.offered) <= _MOST


def must_ask(known: Field, form: Form) -> bool:
    """Whether a form has to ask this of everybody: the email of a sign-up, by which a person is known."""
    return form.channel == "sign-up" and known.built_in and known.key == "email"


def asked_of(question: Question, known: Field, by: Field, form: Form, catalogue: Catalogue) -> dict[str, Asked] | None:
    """Of each option of the choice `by`, and of nobody's, how a question is asked; None where a rule of the question
    reads something else as well."""
    columns = [*(option.stored_value for option in by.offered), NOBODY]
    world = form_world(form, catalogue)
    shows = _verdicts(question.show_when, name_in(form, by), columns, world, catalogue)
    insists = known.required if question.required is None else question.required
    required = _verdicts(question.required_when, name_in(form, by), columns, world, catalogue)
    if shows is None or required is None:
        return None
    found: dict[str, Asked] = {}
    for column in columns:
        must = required[column] if question.required_when else insists
        found[column] = "not asked" if not shows[column] else "required" if must else "optional"
    return found


def _verdicts(
    rule: str, name: str, columns: Sequence[str], world: World, catalogue: Catalogue
) -> dict[str, bool] | None:
    if not rule:
        return dict.fromkeys(columns, True)
    typed = check(rule, world, zone=catalogue.zone, expect="yes_no").typed
    if typed is None or not typed.names <= {name} or not _steady(typed):
        return None
    run, moment = compile_python(typed), Moment(datetime(2000, 1, 1, tzinfo=UTC), UTC)
    return {column: run({name: column or None}, moment) is True for column in columns}


def _steady(typed: Typed) -> bool:
    """Whether an expression comes out the same whenever, and whatever the house values are."""
    return all(part.operation not in ("house", "today", "now", "collect") for part in typed.walk())


def rules_for(asked: Mapping[str, Asked], by: Field, name: str = "") -> dict[str, Any]:
    """What of a question has to be set so that it is asked like this; `name` is what rules call the choice.

    Raises ValueError where nobody would be asked.
    """
    shown = [column for column, how in asked.items() if how != "not asked"]
    required = [column for column, how in asked.items() if how == "required"]
    if not shown:
        raise ValueError("Then nobody would be asked it. Remove the question instead.")
    if not required or set(required) == set(shown):
        return {"show_when": _rule(shown, by, name or by.key), "required": bool(required), "required_when": ""}
    return {
        "show_when": _rule(shown, by, name or by.key),
        "required": None,
        "required_when": _rule(required, by, name or by.key),
    }


def _rule(columns: Sequence[str], by: Field, name: str) -> str:
    """The expression that is true for these columns, "" for all."""
    options = [option.stored_value for option in by.offered if option.stored_value in columns]
    if len(options) == len(by.offered) and NOBODY in columns:
        return ""
    if len(options) == len(by.offered):
        return f"{name} is filled"
    among = ", ".join(map(print_text_literal, options))
    parts = [f"{name} is blank"] if NOBODY in columns else []
    parts += [f"{name} in ({among})" if len(options) > 1 else f"{name} = {among}"] if options else []
    return " or ".join(parts)
