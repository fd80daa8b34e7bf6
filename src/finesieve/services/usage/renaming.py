"""Something renamed wherever it stands: the stored value of an option, with everybody who holds it; the name by which
expressions call a field. Rules, formulas, segments and texts are rewritten, published forms as well; all else in them
stays as it was typed."""

from collections.abc import Callable, Mapping
from functools import partial
from itertools import chain
from typing import Any, Final

from sqlmodel import select

from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.script import Script, expressions_of, texts_of
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form
from finesieve.core.forms.fees import check_fee
from finesieve.core.forms.prepare import form_world, section_world
from finesieve.core.language.checker import check
from finesieve.core.language.names import World
from finesieve.core.language.placeholders import expressions_in
from finesieve.core.language.printer import print_text_literal
from finesieve.core.language.problems import Span
from finesieve.core.language.tree import Name, walk
from finesieve.core.language.typed import Typed, unplaced
from finesieve.core.model.approving import check_approval
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.reader import reader_world
from finesieve.core.values import Type
from finesieve.services.kernel.scope import Unit
from finesieve.services.usage.rewriting import Check, Placed, Rewrite, in_document, placed_rewritten, text_rewritten
from finesieve.services.usage.uses import Use, options_named, uses_of
from finesieve.store.tables import (
    ApprovalRow,
    ChatScriptRow,
    ChatScriptVersion,
    FieldGroupRow,
    FieldRow,
    FormRow,
    FormVersion,
    LevelRow,
    PageRow,
    PageVersion,
    Segment,
)
from finesieve.store.values.reshape import rename_values

__all__ = ["call_everywhere", "rename_everywhere"]


def rename_everywhere(unit: Unit, field: Field, renamed: Mapping[str, str]) -> None:
    """Give options of a field other stored values, by the old ones, with everybody and everything that names them."""
    rename_values(unit.session, unit.definitions, field, renamed)

    def rewrite(text: str, check_here: Check) -> str:
        return _with_options(text, check_here(text).typed, field, renamed)

    _in_uses(unit, unit.catalogue, field, rewrite)
    _in_pages(unit, unit.catalogue, rewrite)
    _in_forms(unit, unit.catalogue, rewrite, lambda document, form: _options_renamed(document, form, field, renamed))
    _in_scripts(unit, unit.catalogue, rewrite, lambda document: _replies_renamed(document, field, renamed))


def call_everywhere(unit: Unit, catalogue: Catalogue, field: Field) -> None:
    """Write the present name of a field wherever one of its others stands; `catalogue` knows it by all of them."""
    others = frozenset(field.names[1:])

    def rewrite(text: str, check_here: Check) -> str:
        return _with_name(text, check_here, others, field.name)

    _in_uses(unit, catalogue, field, rewrite)
    _in_pages(unit, catalogue, rewrite)
    _in_forms(unit, catalogue, rewrite, lambda document, _form: document)
    _in_scripts(unit, catalogue, rewrite, lambda document: document)


# One expression


def _with_options(expression: str, typed: Typed | None, field: Field, renamed: Mapping[str, str]) -> str:
    """An expression with the stored values of a field renamed where they are named."""
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


def _with_name(text: str, check_here: Check, others: frozenset[str], name: str) -> str:
    """An expression with a field under its present name; a name that means something else stays, which is told by what
    the expression would mean."""
    if not any(one in text.lower() for one in others):
        return text
    checked = check_here(text)
    if checked.tree is None or checked.typed is None:
        return text
    meaning = unplaced(checked.typed)
    found = {(part.span, part.path[-1]) for part in walk(checked.tree) if isinstance(part, Name)}
    for span, word in sorted(found, key=lambda one: -one[0].start):
        if word not in others:
            continue
        made = text[: span.end - len(word)] + name + text[span.end :]
        typed = check_here(made).typed
        if typed is not None and unplaced(typed) == meaning:
            text = made
    return text


# Where expressions stand


def _in_uses(unit: Unit, catalogue: Catalogue, field: Field, rewrite: Rewrite) -> None:
    """Formulas, segments, fees, approval, printed addresses, and the texts of fields."""
    reader = _checking(catalogue, reader_world(catalogue))
    checks: dict[str, Check] = {
        "approval": reader, "fee": partial(check_fee, catalogue), "waits": partial(check_approval, catalogue),
    }  # fmt: skip
    done: set[tuple[str, int, str]] = set()
    for use in uses_of(unit).of_field(field.id):
        if not use.expression or (use.kind, use.id, use.expression) in done:
            continue
        done.add((use.kind, use.id, use.expression))
        check_here = checks.get(use.kind) or _checking(catalogue, catalogue.world(use.about))
        text = rewrite(use.expression, check_here)
        if text == use.expression and use.kind == "approval":
            text = rewrite(use.expression, checks["waits"])
        if text != use.expression:
            _replace_expression(unit, use, text)
    for other in catalogue.all_fields:
        _in_texts_of(unit, other, lambda text: rewrite(text, catalogue.check))


def _checking(catalogue: Catalogue, world: World) -> Check:
    return lambda text: check(text, world, zone=catalogue.zone)


def _in_texts_of(unit: Unit, field: Field, rewrite: Callable[[str], str]) -> None:
    """The help of a field, and what stands in for it in messages."""
    texts = {text: text_rewritten(text, rewrite) for text in (field.help, field.settings.fallback) if "{" in text}
    row = unit.session.get(FieldRow, field.id) if any(old != new for old, new in texts.items()) else None
    if row is not None:
        row.help = texts.get(row.help, row.help)
        fallback = field.settings.fallback
        if fallback in texts:
            row.settings = {**row.settings, "fallback": texts[fallback]}
        unit.session.add(row)


def _in_pages(unit: Unit, catalogue: Catalogue, rewrite: Rewrite) -> None:
    """Member pages, drafts and published versions."""
    check_here = _checking(catalogue, reader_world(catalogue))
    drafts = ((row, "draft") for row in unit.session.exec(select(PageRow)).all())
    versions = ((row, "document") for row in unit.session.exec(select(PageVersion)).all())
    found: list[tuple[Any, str]] = [*drafts, *versions]
    for row, column in found:
        made = document = getattr(row, column)
        for block in document.get("blocks", ()):
            in_texts = (expressions_in(block.get(part, "")) for part in ("text", "button", "to"))
            for text in (block.get("show_when", ""), *chain.from_iterable(in_texts)):
                made = in_document(made, text, rewrite(text, check_here)) if text else made
        if made != document:
            setattr(row, column, made)
            if isinstance(row, PageRow):
                row.revision += 1
            unit.session.add(row)


def _in_forms(
    unit: Unit, catalogue: Catalogue, rewrite: Rewrite, besides: Callable[[dict[str, Any], Form], dict[str, Any]]
) -> None:
    """Drafts, and published versions, which mean the same as before; `besides` sees to what is no expression."""

    def made(document: dict[str, Any]) -> dict[str, Any]:
        form = Form.model_validate(document)
        return besides(
            placed_rewritten(document, _rules_of(catalogue, form), _texts_of(catalogue, form), rewrite), form
        )

    for version in unit.session.exec(select(FormVersion)).all():
        document = made(version.document)
        if document != version.document:
            version.document = document
            unit.session.add(version)
    for row in unit.session.exec(select(FormRow)).all():
        draft = made(row.draft)
        if draft != row.draft:
            row.draft, row.revision = draft, row.revision + 1
            unit.session.add(row)


def _rules_of(catalogue: Catalogue, form: Form) -> list[Placed]:
    world, found = form_world(form, catalogue), []
    for place, _, text in form.walk_rules():
        section = form.section_of(place)
        found.append((place, text, _checking(catalogue, section_world(world, section) if section else world)))
    return found


def _texts_of(catalogue: Catalogue, form: Form) -> list[Placed]:
    """The texts that people read, with what their placeholders are checked by."""
    world = form_world(form, catalogue)
    whole = _checking(catalogue, world)
    return [
        (place, text, _checking(catalogue, section_world(world, section)) if section else whole)
        for place, section, text in form.walk_placed_texts()
    ]


def _in_scripts(
    unit: Unit, catalogue: Catalogue, rewrite: Rewrite, besides: Callable[[dict[str, Any]], dict[str, Any]]
) -> None:
    """Chat scripts, drafts and versions; `besides` sees to what is no expression."""
    drafts = ((row, "draft") for row in unit.session.exec(select(ChatScriptRow)).all())
    versions = ((row, "document") for row in unit.session.exec(select(ChatScriptVersion)).all())
    found: list[tuple[Any, str]] = [*drafts, *versions]
    for row, column in found:
        document = getattr(row, column)
        script = Script.model_validate(document)
        prepared = PreparedScript(script, catalogue)
        steps = [(step, prepared.at(step.id).check) for step in script.steps]
        rules = [(step.id, text, check_here) for step, check_here in steps for text in expressions_of(step)]
        texts = [(step.id, text, check_here) for step, check_here in steps for _, text in texts_of(step)]
        made = besides(placed_rewritten(document, rules, texts, rewrite))
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


def _replace_expression(unit: Unit, use: Use, text: str) -> None:
    """Put the new text wherever the old one stands in the use's place."""
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
    elif use.kind == "approval":
        approval = unit.session.get(ApprovalRow, use.id)
        if approval is not None:
            approval.waits_when = text if approval.waits_when == use.expression else approval.waits_when
            approval.texts = in_document(approval.texts, use.expression, text)
            unit.session.add(approval)
    elif use.kind in _DOCUMENTS:
        table, column = _DOCUMENTS[use.kind]
        document: Any = unit.session.get(table, use.id)
        if document is not None:
            setattr(document, column, in_document(getattr(document, column), use.expression, text))
            unit.session.add(document)


_DOCUMENTS: Final[Mapping[str, tuple[type[Any], str]]] = {
    "fee": (LevelRow, "fee"),
    "address": (FieldGroupRow, "settings"),
}
"""The documents that expressions stand in, by the kind of use: the table and the column."""
