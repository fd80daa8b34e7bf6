"""Fields: make, change, rest, duplicate, move, delete, bring back."""

from collections.abc import Mapping
from typing import Any, Final

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.core.fields.about import ABOUTS, HOUSE, ORDER, PERSON, record_about, record_type_of
from finesieve.core.fields.built_in import KEPT_BY_ITSELF, BuiltIn, Part, twin_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.families.data import MEDIA
from finesieve.core.fields.options import options_to_lines
from finesieve.core.fields.settings import SETTINGS
from finesieve.core.fields.types import TYPES
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.define.contents import sections
from finesieve.office.define.going_on import go_on
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.deletion import delete_field, plan_deletion, restore_field
from finesieve.services.define.fields import (
    FieldInput,
    change_field,
    create_field,
    duplicate_field,
    group_of,
    move_field,
    rest_field,
    settings_from,
)
from finesieve.services.define.groups import GroupInput, create_field_in, read_catalogue, read_field
from finesieve.services.define.options import list_option_lists, read_options
from finesieve.services.define.several import PastedField, make_several, read_pasted
from finesieve.services.forms.asking import forms_asking, set_forms_asking
from finesieve.services.forms.forms import list_forms
from finesieve.services.kernel.changes import last_change
from finesieve.services.kernel.inputs import read_input
from finesieve.services.transfer.exports import values_as_csv
from finesieve.services.upkeep.readings import read_values_of
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.templating import render

__all__ = [
    "options_page",
    "router",
]

router = PrefixRouter(prefix="/w/{slug}/define")


# Making


@router.get("/new")
def new_field(request: Request, desk: DeskHere, about: str = "", group: int = 0, label: str = "") -> Response:
    """The form for a new field: first what it is about."""
    catalogue = read_catalogue(desk.scope)
    known = catalogue.groups_by_id.get(group)
    typed = {"about": about or (known.about if known else ""), "group": str(group), "label": label[:120]}
    return _new_field_page(request, desk, {"type_key": "short_text", **typed}, {})


@router.get("/{group_id:int}/new")
def new_field_in(request: Request, desk: DeskHere, group_id: int) -> Response:
    """The form for a new field in a group. Raises NotFound."""
    group_of(read_catalogue(desk.scope), group_id)
    return new_field(request, desk, "", group_id)


def _new_field_page(
    request: Request, desk: Desk, typed: Mapping[str, str], messages: Mapping[str, str], status: int = 200
) -> Response:
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/new_field.html",
        stage="define",
        title="New field",
        sections=sections(desk, catalogue),
        types=TYPES.values(),
        abouts=ABOUTS.values(),
        catalogue=catalogue,
        groups=catalogue.all_groups,
        option_lists=list_option_lists(desk.scope),
        forms=list_forms(desk.scope),
        typed=typed,
        messages=messages,
        then=typed.get("then") or request.query_params.get("then", ""),
        like=_like(catalogue, typed),
        twin=_twin(typed),
        status=status,
    )


@router.get("/alike")
def show_alike(request: Request, desk: DeskHere, label: str = "", about: str = "") -> Response:
    """What is there already that a label would repeat: a part of the page of a new field."""
    typed = {"label": label[:120], "about": about}
    catalogue = read_catalogue(desk.scope)
    found = {"like": _like(catalogue, typed), "twin": _twin(typed), "catalogue": catalogue}
    return render(request, "office/define/_alike.html", {"desk": desk, "csrf": desk.staff.csrf, **found})


def _twin(typed: Mapping[str, str]) -> tuple[BuiltIn, Part] | None:
    return twin_of(typed.get("label", "")) if typed.get("about", "") in ("", PERSON) else None


@router.get("/{group_id:int}/several")
def new_fields(request: Request, desk: DeskHere, group_id: int) -> Response:
    """The page that makes several fields of pasted lines."""
    return _several_page(request, desk, group_id, "", {})


def _several_page(
    request: Request, desk: Desk, group_id: int, lines: str, messages: Mapping[str, str], status: int = 200
) -> Response:
    desk.scope.need("editor")
    catalogue = read_catalogue(desk.scope)
    pasted: tuple[PastedField, ...] = ()
    if not messages and lines.strip():
        try:
            pasted = read_pasted(desk.scope, group_id, lines)
        except InvalidInput as problem:
            messages, status = problem.messages, 422
    return page(
        request,
        desk,
        "office/define/several.html",
        stage="define",
        title="Several fields",
        sections=sections(desk, catalogue),
        group=group_of(catalogue, group_id),
        types=[one for one in TYPES.values() if one.stores and one.key != "record"],
        lines=lines,
        pasted=pasted,
        messages=messages,
        status=status,
    )


@router.post("/{group_id:int}/several")
def make_fields(request: Request, desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Look at what pasted lines would make, or make it."""
    lines = form.text("lines")[:20_000]
    if form.text("action") != "make":
        return _several_page(request, desk, group_id, lines, {})
    try:
        _made, change = make_several(desk.scope, group_id, lines)
    except InvalidInput as problem:
        return _several_page(request, desk, group_id, lines, problem.messages, 422)
    return back_with(desk.path(f"define/{group_id}"), change)


def _like(catalogue: Catalogue, typed: Mapping[str, str]) -> str:
    """The label of a field that the typed label repeats; "" where there is none."""
    words = typed.get("label", "").casefold().strip()
    about = typed.get("about") or PERSON
    return next(
        (field.label for field in catalogue.fields_about(about) if words and field.label.casefold() == words), ""
    )


@router.post("/new")
def make_field(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a field, and go on where it was wanted."""
    try:
        group = _group_for(desk, form)
        asked = read_input(FieldInput, _field_data(form, form.text("type_key")))
        twin = twin_of(asked.label)
        if twin and form.text("about") == PERSON and form.text("twin") != "yes" and not form.text("then"):
            raise InvalidInput({"twin": twin[0].objection})
        make = create_field if isinstance(group, int) else create_field_in
        field_id = make(desk.scope, group, asked)  # type: ignore[arg-type]  # each takes its own
    except InvalidInput as problem:
        return _new_field_page(request, desk, form.data, problem.messages, 422)
    then = go_on(desk.scope, form.text("then"), field_id)
    if then:
        return RedirectResponse(desk.path(then), 303)
    wanted = [number for text in form.texts("ask") if (number := whole_number(text))]
    if wanted:
        try:
            set_forms_asking(desk.scope, field_id, wanted)
        except InvalidInput as problem:
            # The field is there; what could not be done is said where it is set.
            return _field_page(request, desk, field_id, None, {"asked": next(iter(problem.messages.values()))}, 422)
        return RedirectResponse(desk.path(f"define/fields/{field_id}?asked={len(wanted)}"), 303)
    if form.text("about") == HOUSE:
        return RedirectResponse(desk.path(f"define/house/{field_id}?made=1"), 303)
    group_id = read_field(desk.scope, field_id).field.group_id
    return RedirectResponse(desk.path(f"define/{group_id}?made={field_id}"), 303)


def _group_for(desk: Desk, form: PostedForm) -> int | GroupInput:
    """The group chosen; the first about what was chosen; a new one where there is none yet."""
    catalogue = read_catalogue(desk.scope)
    about = form.text("about")
    if about == "record":
        type_id = whole_number(form.text("record_type_id")) or 0
        if type_id not in catalogue.record_types_by_id:
            raise InvalidInput({"about": "Make the record type first, under “things people have”."})
        about = record_about(type_id)
    if about not in (*(key for key in ABOUTS if key != "record"), record_about(record_type_of(about))):
        raise InvalidInput({"about": "Choose what the fact is about."})
    chosen = catalogue.groups_by_id.get(whole_number(form.text("group")) or 0)
    if chosen is not None and chosen.about == about:
        return chosen.id
    for group in catalogue.groups_about(about):
        return group.id
    name = {HOUSE: "House values"}.get(about, f"About {catalogue.say_about(about)}")
    return GroupInput(name=name[:80], about=about)


def _field_data(form: PostedForm, type_key: str) -> dict[str, Any]:
    settings = settings_from(type_key, form.lists("s_"))
    settings.pop("resting", None)
    return {**form.data, "required": form.text("required") == "true", "settings": settings}


# One field


@router.get("/fields/{field_id:int}")
def show_field(request: Request, desk: DeskHere, field_id: int) -> Response:
    """A field with its settings."""
    return _field_page(request, desk, field_id, None, {})


def _field_page(
    request: Request,
    desk: Desk,
    field_id: int,
    typed: Mapping[str, Any] | None,
    messages: Mapping[str, str],
    status: int = 200,
    overtaken: Overtaken | None = None,
) -> Response:
    view = read_field(desk.scope, field_id)
    field = view.field
    if field.derived:
        return RedirectResponse(desk.path(f"compute/{field_id}"), 303)
    catalogue = read_catalogue(desk.scope)
    stored = {
        "label": field.label,
        "help": field.help,
        "required": field.required,
        "unit": field.unit,
        "settings": field.settings,
    }
    record_type = record_type_of(field.about)
    return page(
        request,
        desk,
        "office/define/field.html",
        stage="define",
        title=field.label,
        sections=sections(desk, catalogue, f"records/{record_type}" if record_type else str(field.group_id)),
        view=view,
        seen=last_change(desk.scope, "field", field_id),
        overtaken=overtaken,
        reading=read_values_of(desk.scope, field_id),
        typed={**stored, **(typed or {})},
        messages=messages,
        group=catalogue.groups_by_id[field.group_id],
        groups=catalogue.groups_about(field.about),
        about=catalogue.say_about(field.about),
        catalogue=catalogue,
        settings=_settings_for(field),
        media=MEDIA,
        country_fields=[
            ("", "none"),
            *((one.key, one.label) for one in catalogue.fields_about(field.about) if one.type_key == "country"),
        ],
        option_lists=list_option_lists(desk.scope) if field.type.has_options else (),
        forms=forms_asking(desk.scope, field_id) if _can_be_asked(field) else (),
        status=status,
    )


def _can_be_asked(field: Field) -> bool:
    """Whether forms choose to ask for it: the email they always ask, and what is kept by itself they never do."""
    return field.about in (PERSON, ORDER) and field.key != "email" and field.key not in KEPT_BY_ITSELF


_ORDER = ("On forms", "Limits", "Visibility")
_PARTS: Mapping[str, tuple[str, ...]] = {
    "On forms": ("sample_text", "default", "widget", "width", "style_class"),
    "Limits": (
        "unique", "low", "high", "step", "decimals", "currency", "longest", "fewest", "most", "country", "country_from",
        "media", "most_kilobytes", "json_schema", "record_type", "option_list",
    ),
    "Visibility": (
        "short_name", "fallback", "private", "searchable", "files_for", "lists", "joined_list", "change_by",
        "change_levels", "purpose",
    ),
}  # fmt: skip


_OF_PEOPLE: Final = ("lists", "joined_list", "change_by", "change_levels", "searchable")
"""Settings that only fields about people have."""


def _settings_for(field: Field) -> list[tuple[str, list[tuple[str, Any]]]]:
    """The settings that have a meaning for a field, in parts: (title, [(name, setting)])."""
    found = []
    for title in _ORDER:
        names = [
            (name, SETTINGS[name])
            for name in _PARTS[title]
            if (not SETTINGS[name].types or field.type_key in SETTINGS[name].types)
            and (field.about == PERSON or name not in _OF_PEOPLE)
        ]
        if names:
            found.append((title, names))
    return found


@router.post("/fields/{field_id:int}")
def save_field(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Change the settings of a field."""
    field = read_field(desk.scope, field_id).field
    data = _field_data(form, field.type_key)
    try:
        seen = whole_number(form.text("seen"))
        change = change_field(desk.scope, field_id, read_input(FieldInput, data), seen)
    except (InvalidInput, Overtaken) as problem:
        typed = {
            **form.data,
            "required": data["required"],
            "settings": {**field.settings.model_dump(), **data["settings"]},
        }
        if isinstance(problem, Overtaken):
            return _field_page(request, desk, field_id, typed, {}, 409, problem)
        return _field_page(request, desk, field_id, typed, problem.messages, 422)
    return back_with(desk.path(f"define/fields/{field_id}"), change)


@router.post("/fields/{field_id:int}/asked")
def ask_in_forms(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Have exactly the ticked forms ask for the field."""
    wanted = [number for text in form.texts("form") if (number := whole_number(text)) is not None]
    try:
        changed = set_forms_asking(desk.scope, field_id, wanted)
    except InvalidInput as problem:
        return _field_page(request, desk, field_id, None, {"asked": next(iter(problem.messages.values()))}, 422)
    return RedirectResponse(desk.path(f"define/fields/{field_id}?asked={changed}"), 303)


@router.post("/fields/{field_id:int}/move")
def move(desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Move a field to the end of another group."""
    change = move_field(desk.scope, field_id, form.number("group"))
    return back_with(desk.path(f"define/fields/{field_id}"), change)


@router.post("/fields/{field_id:int}/rest")
def rest(desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Let a field rest, or take it up again."""
    change = rest_field(desk.scope, field_id, resting=form.text("resting") == "yes")
    return back_with(desk.path(f"define/fields/{field_id}"), change)


@router.post("/fields/{field_id:int}/duplicate")
def duplicate(desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Make a field like this one."""
    made = duplicate_field(desk.scope, field_id)
    return RedirectResponse(desk.path(f"define/fields/{made}"), 303)


# Deleting, and bringing back


@router.get("/fields/{field_id:int}/delete")
def show_deletion(request: Request, desk: DeskHere, field_id: int) -> Response:
    """What deleting would do."""
    return _deletion_page(request, desk, field_id, {})


def _deletion_page(
    request: Request, desk: Desk, field_id: int, messages: Mapping[str, str], status: int = 200
) -> Response:
    plan = plan_deletion(desk.scope, field_id)
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/delete.html",
        stage="define",
        title=f"Delete {plan.field.label}",
        sections=sections(desk, catalogue, str(plan.field.group_id)),
        plan=plan,
        messages=messages,
        about=catalogue.say_about(plan.field.about),
        status=status,
    )


@router.post("/fields/{field_id:int}/delete")
def delete(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Delete a field whose name was typed."""
    try:
        change = delete_field(desk.scope, field_id, form.text("typed"))
    except InvalidInput as problem:
        return _deletion_page(request, desk, field_id, problem.messages, 422)
    return back_with(desk.path("define/deleted"), change)


@router.get("/fields/{field_id:int}/values.csv")
def download_values(desk: DeskHere, field_id: int) -> Response:
    """The values of a field as CSV, before it is deleted, or any time."""
    name, text = values_as_csv(desk.scope, field_id)
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(text, media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/deleted")
def show_deleted(request: Request, desk: DeskHere) -> Response:
    """The fields that can be brought back."""
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/deleted.html",
        stage="define",
        title="Deleted fields",
        sections=sections(desk, catalogue, "deleted"),
        fields=sorted(catalogue.deleted, key=lambda field: str(field.deleted_at), reverse=True),
        catalogue=catalogue,
    )


@router.post("/deleted/{field_id:int}")
def restore(desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Bring a field back."""
    change = restore_field(desk.scope, field_id)
    return back_with(desk.path(f"define/fields/{field_id}"), change)


@router.get("/fields/{field_id:int}/options")
def show_options(request: Request, desk: DeskHere, field_id: int) -> Response:
    """The options of a choice, row by row."""
    return options_page(request, desk, field_id, None, {})


def options_page(
    request: Request,
    desk: Desk,
    field_id: int,
    rows: Any,
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    """See `show_options`; `rows` are those as typed."""
    view = read_field(desk.scope, field_id)
    if not view.field.type.has_options:
        raise NotFound("There are no options to change.")
    lines = read_options(desk.scope, field_id)
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/options.html",
        stage="define",
        title=f"Options of {view.field.label}",
        sections=sections(desk, catalogue, str(view.field.group_id)),
        view=view,
        lines=lines,
        rows=rows,
        pasted=options_to_lines(view.field.options),
        seen=last_change(desk.scope, "options", field_id),
        messages=messages,
        status=status,
        **standing,
    )
