"""Definitions by file: taking the whole setup out, trying a file against what is there, loading it."""

from collections.abc import Collection
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Final

from pydantic import ValidationError
from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import HOUSE, LEVEL
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.options import option_to_json
from finesieve.core.forms.definition import Form
from finesieve.core.forms.portable import portable
from finesieve.core.setup.choosing import only
from finesieve.core.setup.compare import KINDS, Difference, compare, identity_of
from finesieve.core.setup.document import (
    FieldPart,
    FormPart,
    GroupPart,
    LabelPart,
    LevelPart,
    LinkPart,
    OptionListPart,
    PersonalLinkPart,
    RecordTypePart,
    SegmentPart,
    Setup,
)
from finesieve.core.setup.schema import dump, read_schema, to_schema
from finesieve.services.define.fields import group_of
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.transfer.foreseeing import about_key, unfit
from finesieve.services.transfer.loading import Loader
from finesieve.services.transfer.scripts import take_scripts
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import (
    AudienceList,
    ChatScriptRow,
    FormRow,
    HouseMapping,
    LevelRow,
    OptionListRow,
    PersonalLinkRow,
    Segment,
    Workspace,
)

__all__ = [
    "STARTERS",
    "LoadPlan",
    "export_field",
    "export_setup",
    "list_starters",
    "load_setup",
    "plan_setup",
    "starter_text",
    "take_setup",
]

STARTERS: Final = Path(__file__).parents[2] / "starters"
"""The starter sets that ship with the product, one file each."""


# Taking out -------------------------------------------------------------------------------------


def export_setup(scope: Scope, group_id: int = 0, *, values: bool = False) -> tuple[str, str]:
    """The name and text of a file with the whole definition, or one group of it. Raises NotFound.

    With `values` it is a starter set: house values and the values of levels too.
    """
    with scope.reading("reader") as unit:
        setup = take_setup(unit, values=values)
        if group_id:
            setup = _one_group(unit, setup, group_id)
        name = setup.title.lower().replace(" ", "-") or "setup"
        return f"{name}.schema.json", dump(to_schema(setup))


def export_field(scope: Scope, field_id: int) -> str:
    """The text of a file with one field and its group, to be copied to another workspace. Raises NotFound."""
    with scope.reading("reader") as unit:
        field = unit.catalogue.by_id.get(field_id)
        if field is None:
            raise NotFound("There is no such field.")
        setup = _one_group(unit, take_setup(unit), field.group_id)
        kept = tuple(part for part in setup.fields if part.key == field.key)
        return dump(to_schema(setup.model_copy(update={"part": "field", "fields": kept, "title": field.label})))


def _one_group(unit: Unit, setup: Setup, group_id: int) -> Setup:
    """The group, its fields, and what those lean on."""
    group = group_of(unit.catalogue, group_id)
    about = about_key(unit.catalogue, group.about)
    fields = tuple(part for part in setup.fields if part.about == about and part.group == group.name)
    settings = [part.settings for part in fields]
    lists = {key for one in settings for key in (*one.get("lists", ()), one.get("joined_list"))}
    shared = {one["option_list"] for one in settings if "option_list" in one}
    return Setup(
        part="group",
        title=group.name,
        groups=tuple(part for part in setup.groups if part.about == about and part.name == group.name),
        fields=fields,
        lists=tuple(part for part in setup.lists if part.key in lists),
        option_lists=tuple(part for part in setup.option_lists if part.name in shared),
        record_types=tuple(part for part in setup.record_types if about == f"record:{part.key}"),
        links=tuple(part for part in setup.links if about == f"record:{part.record_type}"),
    )


def take_setup(unit: Unit, *, values: bool = False) -> Setup:
    """All that is defined, free of ids."""
    catalogue = unit.catalogue
    about = select(Workspace.name, Workspace.description).where(col(Workspace.id) == unit.workspace_id)
    title, description = unit.session.exec(about).one()
    return Setup(
        title=title,
        description=description,
        record_types=tuple(
            RecordTypePart(
                key=known.key,
                singular=known.singular,
                plural=known.plural,
                symbol=known.symbol,
                description=known.description,
                title=catalogue.by_id[known.title_field].key if known.title_field in catalogue.by_id else "",
            )
            for known in catalogue.record_types
        ),
        links=tuple(
            LinkPart(
                record_type=known.key,
                name=link.name,
                target=about_key(catalogue, link.target),
                many=link.many,
                back_name=link.back_name,
                back_key=link.back_key,
            )
            for known in catalogue.record_types
            for link in known.links
        ),
        lists=_lists(unit),
        levels=_levels(unit),
        option_lists=tuple(
            OptionListPart(name=row.name, options=tuple(row.options))
            for row in unit.session.exec(select(OptionListRow).order_by(col(OptionListRow.name))).all()
        ),
        groups=tuple(
            GroupPart(
                name=group.name,
                about=about_key(catalogue, group.about),
                description=group.description,
                settings=group.settings.to_json(),
            )
            for group in catalogue.all_groups
        ),
        fields=tuple(_field_part(unit, field) for field in catalogue.all_fields),
        forms=_forms(unit),
        scripts=take_scripts(unit),
        segments=tuple(
            SegmentPart(
                called=row.key, folder=row.folder, name=row.name, description=row.description, expression=row.expression
            )
            for row in unit.session.exec(select(Segment).order_by(col(Segment.position), col(Segment.id))).all()
        ),
        personal_links=_personal_links(unit),
        house_values=_house(unit) if values else {},
        level_values=_level_values(unit) if values else {},
        shop=unit.catalogue.shop,
    )


def _personal_links(unit: Unit) -> tuple[PersonalLinkPart, ...]:
    query = (
        select(PersonalLinkRow, FormRow.slug, ChatScriptRow.slug)
        .outerjoin(FormRow, col(FormRow.id) == col(PersonalLinkRow.form_id))
        .outerjoin(ChatScriptRow, col(ChatScriptRow.id) == col(PersonalLinkRow.script_id))
    )
    return tuple(
        PersonalLinkPart(
            key=row.key, name=row.name, form=form or "", script=script or "", only_missing=row.only_missing,
            days=row.days, once=row.once,
        )
        for row, form, script in unit.session.exec(query.order_by(col(PersonalLinkRow.id))).all()
    )  # fmt: skip


def _lists(unit: Unit) -> tuple[LabelPart, ...]:
    rows = unit.session.exec(select(AudienceList).order_by(col(AudienceList.name), col(AudienceList.id))).all()
    return tuple(LabelPart(key=row.key, name=row.name, description=row.description) for row in rows)


def _levels(unit: Unit) -> tuple[LevelPart, ...]:
    rows = unit.session.exec(select(LevelRow).order_by(col(LevelRow.position), col(LevelRow.id))).all()
    known = {one.id: one for one in unit.catalogue.levels}
    return tuple(
        LevelPart(
            key=row.key, name=row.name, description=row.description, lasts=known[row.id].lasts, fee=known[row.id].fee
        )
        for row in rows
        if row.id is not None
    )


def _field_part(unit: Unit, field: Field) -> FieldPart:
    catalogue = unit.catalogue
    settings = field.settings.to_json()
    names = {known.id: known.key for known in (*catalogue.lists,)}
    levels = {known.id: known.key for known in catalogue.levels}
    if "lists" in settings:
        settings["lists"] = [names[one] for one in settings["lists"] if one in names]
    if settings.get("joined_list") in names:
        settings["joined_list"] = names[settings["joined_list"]]
    if "change_levels" in settings:
        settings["change_levels"] = [levels[one] for one in settings["change_levels"] if one in levels]
    if settings.get("option_list"):
        shared = unit.session.get(OptionListRow, settings["option_list"])
        settings["option_list"] = shared.name if shared else ""
    if settings.get("record_type") in catalogue.record_types_by_id:
        settings["record_type"] = catalogue.record_types_by_id[settings["record_type"]].key
    return FieldPart(
        key=field.key,
        label=field.label,
        about=about_key(catalogue, field.about),
        group=catalogue.groups_by_id[field.group_id].name,
        type=field.type_key,
        help=field.help,
        required=field.required,
        unit=field.unit,
        options=() if field.settings.option_list else tuple(option_to_json(option) for option in field.options),
        settings=settings,
        formula=field.formula,
        built_in=field.built_in,
    )


def _forms(unit: Unit) -> tuple[FormPart, ...]:
    found = []
    by_id = unit.catalogue.by_id
    sets = {
        mapping.form_id: {by_id[int(one)].key: str(key) for one, key in mapping.pairs if int(one) in by_id}
        for mapping in unit.session.exec(select(HouseMapping).where(col(HouseMapping.target_slug) == "")).all()
    }
    for row in unit.session.exec(select(FormRow).order_by(col(FormRow.id))).all():
        known = {
            "slug": row.slug,
            "document": portable(Form.model_validate(row.draft), unit.catalogue),
            "published": row.published > 0,
        }
        found.append(FormPart.model_validate({**known, "sets": sets.get(row.id or 0, {})}))
    return tuple(found)


def _house(unit: Unit) -> dict[str, Any]:
    return {
        field.key: to_json(unit.moment.house.get(field.key))
        for field in unit.catalogue.stored_about(HOUSE)
        if unit.sees(field)
        and field.type.kind not in ("file", "secret")
        and unit.moment.house.get(field.key) is not None
    }


def _level_values(unit: Unit) -> dict[str, dict[str, Any]]:
    found = {}
    for level in unit.catalogue.levels:
        stored = stored_row(unit.session, unit.definitions, LEVEL, level.id) or {}
        seen = [field for field in unit.catalogue.stored_about(LEVEL) if unit.sees(field)]
        kept = [field.key for field in seen if field.type.kind not in ("file", "secret")]
        values = {key: to_json(stored[key]) for key in kept if stored.get(key) is not None}
        if values:
            found[level.key] = values
    return found


# Loading ----------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class LoadPlan:
    """What loading a file would do. Nothing is removed unless that is asked for."""

    setup: Setup
    differences: tuple[Difference, ...]

    def of(self, change: str) -> tuple[Difference, ...]:
        """The differences of one sort: added, changed, removed, conflict."""
        return tuple(one for one in self.differences if one.change == change)


def plan_setup(scope: Scope, text: str) -> LoadPlan:
    """The dry run of a file against what is there; changes nothing. Raises InvalidInput for a file that is none."""
    setup = read_schema(text)
    with scope.transaction("editor") as unit:
        return _plan(unit, setup)


def _plan(unit: Unit, setup: Setup) -> LoadPlan:
    there = take_setup(unit, values=bool(setup.house_values))
    there = there.model_copy(update={"level_values": {}})
    found = list(compare(there, setup))
    found = [replace(one, change="conflict", why=why) if (why := _broken(unit, setup, one)) else one for one in found]
    return LoadPlan(setup, tuple(found))


def _broken(unit: Unit, setup: Setup, one: Difference) -> str:
    """Why a part that is added or changed cannot be, as far as it can be told before loading."""
    if one.change not in ("added", "changed") or one.what not in KINDS.values():
        return ""
    name = next(name for name, what in KINDS.items() if what == one.what)
    part = next(part for part in getattr(setup, name) if identity_of(part) == one.identity)
    try:
        return unfit(unit.catalogue, setup, part)
    except (ValidationError, ValueError, TypeError, KeyError, AttributeError) as problem:
        return f"It is malformed: {str(problem).partition(chr(10))[0][:200]}"


def load_setup(
    scope: Scope, text: str, *, remove: bool = False, chosen: Collection[str] | None = None
) -> dict[str, int]:
    """Load a file: everything that is no conflict, all at once or nothing; gives how many parts of each sort.

    With `chosen`, the handles of differences, only those, and what they lean on. With `remove`, fields that are not
    in the file are deleted, to be brought back for 90 days. Raises InvalidInput where a part turns out not to be
    possible, or nothing is chosen.
    """
    setup = read_schema(text)
    with scope.transaction("editor") as unit:
        plan = _plan(unit, setup)
        clashing = {(one.what, one.identity) for one in plan.of("conflict")}
        gone = _gone(unit, setup) if remove else []
        kept = _without(setup, clashing)
        if chosen is not None:
            wanted = {(one.what, *one.identity) for one in plan.differences if one.handle in chosen}
            if not wanted and not gone:
                raise InvalidInput({"file": "Tick what to take."})
            kept = only(kept, wanted, take_setup(unit))
        try:
            counts = Loader(unit, kept).load(gone)
        except (ValueError, TypeError, KeyError, AttributeError) as problem:
            words = str(problem).partition("\n")[0][:200]
            raise InvalidInput({"file": f"Its parts do not fit together: {words}"}) from None
        return {**counts, "conflicts": len(clashing)}


def _gone(unit: Unit, setup: Setup) -> list[int]:
    """The fields that a file leaves out, of what it covers; those that clash are in it, and stay."""
    kept = {(part.about, part.key) for part in setup.fields}
    found = []
    for field in unit.catalogue.all_fields:
        part = _field_part(unit, field)
        if not field.built_in and (part.about, part.key) not in kept and setup.covers(part):
            found.append(field.id)
    return found


def _without(setup: Setup, clashing: set[tuple[str, tuple[str, ...]]]) -> Setup:
    """The setup without what clashes."""
    kept = {
        name: tuple(part for part in getattr(setup, name) if (what, identity_of(part)) not in clashing)
        for name, what in KINDS.items()
    }
    return setup.model_copy(update=kept)


def starter_text(name: str) -> str:
    """The text of a starter set that ships with the product. Raises NotFound."""
    path = STARTERS / f"{name}.schema.json"
    if path.name not in {known.name for known in STARTERS.glob("*.schema.json")}:
        raise NotFound("There is no such starter set.")
    return path.read_text()


def list_starters() -> tuple[tuple[str, str, str, int], ...]:
    """The starter sets that ship: (name, title, description, fields)."""
    found = []
    for path in sorted(STARTERS.glob("*.schema.json")):
        setup = read_schema(path.read_text())
        found.append((path.name.removesuffix(".schema.json"), setup.title, setup.description, len(setup.fields)))
    return tuple(found)
