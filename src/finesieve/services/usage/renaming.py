"""A stored value of an option renamed wherever it stands: values, rules, formulas, segments, texts, published forms."""

from collections.abc import Iterator, Mapping
from typing import Any, Final

from sqlmodel import select

from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.script import Script, expressions_of
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form
from finesieve.core.forms.prepare import form_world
from finesieve.core.forms.problems import rule_of
from finesieve.core.language.checker import check
from finesieve.core.language.placeholders import expressions_in
from finesieve.core.language.printer import print_text_literal
from finesieve.core.language.problems import Span
from finesieve.core.language.typed import Typed
from finesieve.core.values import Type
from finesieve.services.kernel.scope import Unit
from finesieve.services.usage.uses import Use, options_named, uses_of
from finesieve.store.tables import (
    ChatScriptRow,
    ChatScriptVersion,
    FieldGroupRow,
    FieldRow,
    FormRow,
    FormVersion,
    LevelRow,
    PageRow,
    Segment,
)
from finesieve.store.values.reshape import rename_values

__all__ = ["rename_everywhere"]


def rename_everywhere(unit: Unit, field: Field, renamed: Mapping[str, str]) -> None:
    """Give options of a field other stored values, by the old ones, with everybody and everything that names them."""
    rename_values(unit.session, unit.definitions, field, renamed)
    _rename_in_expressions(unit, field, renamed)
    _rename_in_versions(unit, field, renamed)
    _rename_in_scripts(unit, field, renamed)


def _rename_in_scripts(unit: Unit, field: Field, renamed: Mapping[str, str]) -> None:
    """Chat scripts, drafts and versions: their rules and formulas, and the values that replies set."""
    drafts = ((row, "draft") for row in unit.session.exec(select(ChatScriptRow)).all())
    versions = ((row, "document") for row in unit.session.exec(select(ChatScriptVersion)).all())
    found: list[tuple[Any, str]] = [*drafts, *versions]
    for row, column in found:
        document = getattr(row, column)
        script = Script.model_validate(document)
        prepared = PreparedScript(script, unit.catalogue)
        made = _replies_renamed(document, field, renamed)
        for text, world in ((one, prepared.at(step.id)) for step in script.steps for one in expressions_of(step)):
            new = _rewritten(text, world.check(text).typed, field, renamed)
            made = _in_document(made, text, new) if new != text else made
        if made != document:
            setattr(row, column, made)
            unit.session.add(row)


def _replies_renamed(document: dict[str, Any], field: Field, renamed: Mapping[str, str]) -> dict[str, Any]:
    def one(step: dict[str, Any]) -> dict[str, Any]:
        if step.get("field_id") != field.id or not step.get("replies"):
            return step
        return {
            **step,
            "replies": [{**part, "value": renamed.get(part["value"], part["value"])} for part in step["replies"]],
        }

    return {**document, "steps": [one(step) for step in document.get("steps", ())]}


def _rename_in_expressions(unit: Unit, field: Field, renamed: Mapping[str, str]) -> None:
    done: set[tuple[str, int, str]] = set()
    for use in uses_of(unit).of_field(field.id):
        if use.expression and (use.kind, use.id, use.expression) not in done:
            done.add((use.kind, use.id, use.expression))
            text = (
                _rewritten_in_form(unit, use, field, renamed)
                if use.kind in ("rule", "check")
                else rewritten(unit, use.expression, use.about, field, renamed)
            )
            _replace_expression(unit, use, text)


def _rewritten_in_form(unit: Unit, use: Use, field: Field, renamed: Mapping[str, str]) -> str:
    """A rule of a form's draft, which may speak of `form.`, `page.` or the record around it."""
    row = unit.session.get(FormRow, use.id)
    form = Form.model_validate(row.draft) if row else None
    for text, typed in _expressions(unit, form) if form else ():
        if text == use.expression and typed is not None:
            return _rewritten(text, typed, field, renamed)
    return use.expression


def _rename_in_versions(unit: Unit, field: Field, renamed: Mapping[str, str]) -> None:
    """Published versions mean the same as before: their rules name the value as it is called now."""
    for version in unit.session.exec(select(FormVersion)).all():
        form = Form.model_validate(version.document)
        document = version.document
        for expression, typed in _expressions(unit, form):
            text = _rewritten(expression, typed, field, renamed)
            document = _in_document(document, expression, text) if text != expression else document
        renamed_options = _options_renamed(document, form, field, renamed)
        if renamed_options != version.document:
            version.document = renamed_options
            unit.session.add(version)
    for row in unit.session.exec(select(FormRow)).all():
        draft = _options_renamed(row.draft, Form.model_validate(row.draft), field, renamed)
        if draft != row.draft:
            row.draft, row.revision = draft, row.revision + 1
            unit.session.add(row)


def _expressions(unit: Unit, form: Form) -> Iterator[tuple[str, Typed | None]]:
    """Every expression of a form with its checked form."""
    for place, _, text in form.walk_rules():
        yield text, rule_of(text, form, unit.catalogue, form.section_of(place))
    world = form_world(form, unit.catalogue)
    for text in form.walk_texts():
        for expression in expressions_in(text):
            yield expression, check(expression, world, zone=unit.catalogue.zone).typed


def _options_renamed(document: dict[str, Any], form: Form, field: Field, renamed: Mapping[str, str]) -> dict[str, Any]:
    """A form's document with the rules, defaults and surcharges of options under the new stored values."""
    ids = {question.id for question in form.questions if question.field_id == field.id}

    def one(node: Any) -> Any:
        if isinstance(node, list):
            return [one(value) for value in node]
        if not isinstance(node, dict):
            return node
        found = {key: one(value) for key, value in node.items()}
        if node.get("id") in ids and node.get("field_id") == field.id:
            rules = found.get("options_when", {})
            found["options_when"] = {renamed.get(option, option): rule for option, rule in rules.items()}
            found["default"] = "\n".join(renamed.get(part, part) for part in found.get("default", "").split("\n"))
            for charge in found.get("surcharges", ()):
                charge["option"] = renamed.get(charge["option"], charge["option"])
        return found

    return dict(one(document)) if ids else document


def rewritten(unit: Unit, expression: str, about: str, field: Field, renamed: Mapping[str, str]) -> str:
    """An expression with the stored values of a field renamed where they are named; all else stays as it was typed."""
    return _rewritten(expression, unit.catalogue.check(expression, about=about).typed, field, renamed)


def _rewritten(expression: str, typed: Typed | None, field: Field, renamed: Mapping[str, str]) -> str:
    if typed is None:
        return expression
    text = expression
    for span, new in sorted(_places(typed, field, renamed), key=lambda pair: -pair[0].start):
        text = text[: span.start] + print_text_literal(new) + text[span.end :]
    return text


def _places(typed: Typed, field: Field, renamed: Mapping[str, str]) -> set[tuple[Span, str]]:
    named = options_named(typed)
    return {(span, renamed[value]) for type_, value, span in named if value in renamed and _of(type_, field)}


def _of(type_: Type, field: Field) -> bool:
    """Whether a choice is this field's, and not one of the same key about something else."""
    return type_.source == field.key and type_.options == field.value_type.options


def _replace_expression(unit: Unit, use: Use, text: str) -> None:
    """Put the new text wherever the old one stands in the use's place."""
    if text == use.expression:
        return
    if use.kind == "formula":
        row = unit.session.get(FieldRow, use.id)
        if row is not None and row.formula == use.expression:
            row.formula = text
            unit.session.add(row)
    elif use.kind == "segment":
        segment = unit.session.get(Segment, use.id)
        if segment is not None:
            segment.expression, segment.revision = text, segment.revision + 1
            unit.session.add(segment)
    elif use.kind in _DOCUMENTS:
        table, column = _DOCUMENTS[use.kind]
        document: Any = unit.session.get(table, use.id)
        if document is not None:
            setattr(document, column, _in_document(getattr(document, column), use.expression, text))
            if hasattr(document, "revision"):
                document.revision += 1
            unit.session.add(document)


_DOCUMENTS: Final[Mapping[str, tuple[type[Any], str]]] = {
    "rule": (FormRow, "draft"),
    "check": (FormRow, "draft"),
    "text": (FormRow, "draft"),
    "page": (PageRow, "draft"),
    "fee": (LevelRow, "fee"),
    "address": (FieldGroupRow, "settings"),
}
"""The documents that expressions stand in, by the kind of use: the table and the column."""


def _in_document(node: Any, old: str, new: str) -> Any:
    if isinstance(node, dict):
        return {key: _in_document(value, old, new) for key, value in node.items()}
    if isinstance(node, list):
        return [_in_document(value, old, new) for value in node]
    if isinstance(node, str):
        return new if node == old else node.replace("{" + old + "}", "{" + new + "}")
    return node
