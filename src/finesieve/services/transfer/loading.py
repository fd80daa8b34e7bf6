"""Loading a setup into a workspace: part by part, in the order in which they lean on one another."""

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, LEVEL, record_about
from finesieve.core.fields.encoding import from_json
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.fields.keys import key_from_label
from finesieve.core.fields.options import option_from_json, option_to_json
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.forms.definition import Form
from finesieve.core.forms.portable import localised
from finesieve.core.setup.document import FieldPart, FormPart, LevelPart, Setup
from finesieve.core.setup.workspace import pointed
from finesieve.services.define.deletion import take_away
from finesieve.services.define.fields import refuse_loss
from finesieve.services.define.groups import GroupInput, make_group
from finesieve.services.define.level_ends import why_not_level_end
from finesieve.services.define.level_fees import why_not_level_fee
from finesieve.services.define.memberships import MembershipInput, make_membership
from finesieve.services.define.options import make_option_list
from finesieve.services.define.record_types import RecordTypeInput, make_record_type
from finesieve.services.forms.forms import document_problems
from finesieve.services.kernel.changes import match_unique_index, record_change, snapshot
from finesieve.services.kernel.scope import Unit, reload
from finesieve.services.transfer.scripts import put_scripts
from finesieve.services.values.writing import change_row
from finesieve.store.definitions.catalogue import add_column, field_from_row, touch
from finesieve.store.reading.rows import HOUSE_ID
from finesieve.store.tables import (
    AudienceList,
    ChatScriptRow,
    FieldGroupRow,
    FieldRow,
    FormRow,
    FormVersion,
    HouseMapping,
    LevelRow,
    OptionListRow,
    PersonalLinkRow,
    RecordLinkRow,
    RecordTypeRow,
    Segment,
    ShopRow,
    Workspace,
)

__all__ = ["Loader"]


class Loader:
    """Loads one setup in one transaction."""

    def __init__(self, unit: Unit, setup: Setup) -> None:
        self._unit = unit
        self._setup = setup
        self._counts: Counter[str] = Counter()
        self._types = {known.key: known.id for known in unit.catalogue.record_types}

    def load(self, remove: Sequence[int] = ()) -> dict[str, int]:
        """Load everything, and delete the fields of these ids; gives how many parts were added, changed and removed."""
        self._describe()
        self._labels()
        self._record_types()
        self._groups()
        self._fields()
        self._titles()
        self._order()
        self._shop()
        self._level_fees()
        self._forms_and_segments()
        put_scripts(self._unit, self._setup.scripts, self._counts, self._changing)
        self._personal_links()
        self._values()
        self._remove(remove)
        return {name: self._counts[name] for name in ("added", "changed", "removed")}

    def _describe(self) -> None:
        """A starter set keeps its description, also when it is taken out again."""
        row = self._unit.session.get(Workspace, self._unit.workspace_id)
        if row is not None and not row.description and not self._setup.part:
            row.description = self._setup.description
            self._unit.session.add(row)

    @contextmanager
    def _changing(self, entity: str, row: Any, name: str) -> Iterator[None]:
        """A change of something that is there, kept so that it can be looked at and taken back."""
        before = snapshot(self._unit, entity, row.id)
        yield
        self._unit.session.add(row)
        if record_change(self._unit, entity, row.id, f"Loaded {name} from a file", before):
            self._counts["changed"] += 1

    def _again(self) -> None:
        touch(self._unit.session, self._unit.workspace_id)
        self._unit = reload(self._unit)

    def _about(self, about: str) -> str:
        """What a part is about, in this workspace. Raises InvalidInput for a record type that is not there."""
        if not about.startswith("record:"):
            return about
        key = about.removeprefix("record:")
        if key not in self._types:
            raise InvalidInput({"file": f"The record type “{key}” is not in the file."})
        return record_about(self._types[key])

    def _level_end(self, part: LevelPart) -> None:
        """How long a level is held, once all levels are there. Raises InvalidInput where it falls to none of them."""
        row = self._unit.session.exec(select(LevelRow).where(col(LevelRow.key) == part.key)).one()
        known = {one.key for one in self._unit.catalogue.levels} | {one.key for one in self._setup.levels}
        why = why_not_level_end(part.key, part.lasts, known)
        if why:
            raise InvalidInput({"file": f"The level {part.name}: {why}"})
        lasts = part.lasts.model_dump(mode="json") if part.lasts is not None else None
        if lasts != row.lasts:
            with self._changing("level", row, part.name):
                row.lasts = lasts

    def _level_fees(self) -> None:
        """What levels cost, once there are fields and a shop. Raises InvalidInput for what cannot be worked out."""
        for part in self._setup.levels:
            row = self._unit.session.exec(select(LevelRow).where(col(LevelRow.key) == part.key)).one()
            why = why_not_level_fee(self._unit.catalogue, part.fee)
            if why:
                raise InvalidInput({"file": f"What the level {part.name} costs: {why}"})
            fee = part.fee.model_dump(mode="json") if part.fee is not None else None
            if fee != row.fee:
                with self._changing("level", row, part.name):
                    row.fee = fee
        self._again()

    def _labels(self) -> None:
        session = self._unit.session
        for kind, table, parts in (
            ("list", AudienceList, self._setup.lists),
            ("level", LevelRow, self._setup.levels),
        ):
            for part in parts:
                row: Any = session.exec(select(table).where(col(table.key) == part.key)).first()
                if row is None:
                    make_membership(
                        self._unit, kind, MembershipInput(name=part.name, description=part.description), part.key
                    )
                    self._counts["added"] += 1
                else:
                    with self._changing(kind, row, part.name):
                        row.name, row.description = part.name, part.description
        for level in self._setup.levels:
            self._level_end(level)
        for shared in self._setup.option_lists:
            row = session.exec(select(OptionListRow).where(col(OptionListRow.name) == shared.name)).first()
            if row is None:
                make_option_list(self._unit, shared.name, [option_from_json(one) for one in shared.options])
                self._counts["added"] += 1
            else:
                options = tuple(option_from_json(one) for one in shared.options)
                for field in self._unit.catalogue.all_fields:
                    if field.settings.option_list == row.id:
                        refuse_loss(self._unit, field, options)
                with self._changing("option_list", row, shared.name):
                    row.options = [option_to_json(option) for option in options]
        self._again()

    def _record_types(self) -> None:
        session = self._unit.session
        for part in self._setup.record_types:
            type_id = self._types.get(part.key)
            if type_id is None:
                asked = RecordTypeInput(
                    singular=part.singular, plural=part.plural, symbol=part.symbol, description=part.description
                )
                type_id = make_record_type(self._unit, asked, key=part.key, plain=True)
                self._counts["added"] += 1
            else:
                row = session.get(RecordTypeRow, type_id)
                assert row is not None
                with self._changing("record_type", row, part.plural):
                    row.singular, row.plural = part.singular, part.plural
                    row.symbol, row.description = part.symbol, part.description
            self._types[part.key] = type_id
        self._links()
        self._again()

    def _links(self) -> None:
        session = self._unit.session
        for position, part in enumerate(self._setup.links):
            type_id, target = self._types.get(part.record_type), self._about(part.target)
            if type_id is None:
                raise InvalidInput({"file": f"The link {part.name} belongs to no record type of the file."})
            query = select(RecordLinkRow).where(
                col(RecordLinkRow.target) == target, col(RecordLinkRow.back_key) == part.back_key
            )
            row = session.exec(query).first()
            if row is None:
                row = RecordLinkRow(
                    workspace_id=self._unit.workspace_id,
                    record_type_id=type_id,
                    name=part.name,
                    target=target,
                    back_name=part.back_name,
                    back_key=part.back_key,
                    position=position,
                )
                self._counts["added"] += 1
            row.name, row.many, row.back_name = part.name, part.many, part.back_name
            session.add(row)
        session.flush()

    def _groups(self) -> None:
        session = self._unit.session
        for position, part in enumerate(self._setup.groups):
            about = self._about(part.about)
            settings = GroupSettings.model_validate(part.settings)
            row = self._group_row(about, part.name)
            if row is None:
                asked = GroupInput(name=part.name, description=part.description, about=about)
                row = session.get(FieldGroupRow, make_group(self._unit, asked))
                assert row is not None
                row.settings = settings.to_json()
                self._counts["added"] += 1
            else:
                with self._changing("group", row, part.name):
                    row.description, row.settings = part.description, settings.to_json()
            row.position = position
            session.add(row)
        self._again()

    def _group_row(self, about: str, name: str) -> FieldGroupRow | None:
        query = select(FieldGroupRow).where(col(FieldGroupRow.about) == about, col(FieldGroupRow.name) == name)
        return self._unit.session.exec(query).first()

    # Fields

    def _settings(self, part: FieldPart) -> FieldSettings:
        shared = self._unit.session.exec(select(OptionListRow.name, OptionListRow.id)).all()
        return pointed(
            part.settings,
            lists={known.key: known.id for known in self._unit.catalogue.lists},
            levels={known.key: known.id for known in self._unit.catalogue.levels},
            option_lists={name: list_id or 0 for name, list_id in shared},
            record_types=self._types,
        )

    def _fields(self) -> None:
        """Stored fields first, then derived ones, so that each formula finds what it reads."""
        for part in sorted(self._setup.fields, key=lambda part: bool(part.formula)):
            about = self._about(part.about)
            group = self._group_row(about, part.group)
            if group is None:
                raise InvalidInput({"file": f"The group “{part.group}” of {part.label} is not in the file."})
            row = self._row(about, part.key)
            if row is None:
                self._add(part, about, group.id or 0)
            else:
                self._change(row, part, group.id or 0)
        self._again()
        for part in self._setup.fields:
            if part.formula:
                problems = self._unit.catalogue.check(part.formula, about=self._about(part.about)).problems
                if problems:
                    raise InvalidInput({"file": f"The formula of {part.label}: {problems[0].message}"})

    def _row(self, about: str, key: str) -> FieldRow | None:
        query = select(FieldRow).where(col(FieldRow.about) == about, col(FieldRow.key) == key)
        return self._unit.session.exec(query).first()

    def _add(self, part: FieldPart, about: str, group_id: int) -> None:
        row = FieldRow(
            workspace_id=self._unit.workspace_id,
            about=about,
            group_id=group_id,
            key=part.key,
            label="",
            type_key=part.type,
            built_in=part.built_in,
        )
        self._fill(row, part, group_id)
        self._unit.session.add(row)
        self._unit.session.flush()
        field = field_from_row(row)
        if field.stores:
            add_column(self._unit.session, self._unit.workspace_id, field)
        match_unique_index(self._unit, row)
        self._counts["added"] += 1

    def _change(self, row: FieldRow, part: FieldPart, group_id: int) -> None:
        before = snapshot(self._unit, "field", row.id or 0)
        field = self._unit.catalogue.by_id.get(row.id or 0)
        if field is not None and field.type.has_options and not field.settings.option_list:
            refuse_loss(self._unit, field, tuple(option_from_json(option) for option in part.options))
        moved = row.group_id != group_id
        self._fill(row, part, group_id)
        self._unit.session.add(row)
        if not row.built_in:
            match_unique_index(self._unit, row)
        if record_change(self._unit, "field", row.id or 0, f"Loaded {part.label} from a file", before) or moved:
            self._counts["changed"] += 1

    def _fill(self, row: FieldRow, part: FieldPart, group_id: int) -> None:
        row.group_id, row.label, row.help, row.unit = group_id, part.label, part.help, part.unit
        row.required, row.formula = part.required, part.formula
        row.options = [option_to_json(option_from_json(option)) for option in part.options]
        settings = self._settings(part)
        row.settings = settings.model_copy(update={"called": self._called(row, settings.called)}).to_json()
        if part.type not in TYPES:
            raise InvalidInput({"file": f"The type “{part.type}” is none."})

    def _called(self, row: FieldRow, called: tuple[str, ...]) -> tuple[str, ...]:
        """The names that the file gives a field, and those that it has here, which may stand in formulas."""
        known = self._unit.catalogue.named(row.about)
        other = known.get(called[0]) if called else None
        if other is not None and other.id != row.id:
            raise InvalidInput({"file": f"{row.label} is called {called[0]} in the file; here {other.label} is."})
        here = tuple(row.settings.get("called", ())) if row.settings else ()
        every = dict.fromkeys((*called, *here, row.key) if called or here else ())
        return tuple(name for name in every if name not in known or known[name].id == row.id)

    def _titles(self) -> None:
        for part in self._setup.record_types:
            row = self._unit.session.get(RecordTypeRow, self._types[part.key])
            field = self._row(record_about(self._types[part.key]), part.title) if part.title else None
            if row is not None and field is not None:
                row.title_field = field.id or 0
                self._unit.session.add(row)

    def _order(self) -> None:
        """Fields in the order of the file; those that are not in it after them."""
        for position, part in enumerate(self._setup.fields):
            row = self._row(self._about(part.about), part.key)
            if row is not None:
                row.position = position
                self._unit.session.add(row)
        self._again()

    # Shop, forms, segments, values

    def _shop(self) -> None:
        if self._setup.shop is None:
            return
        document = self._setup.shop.model_dump(mode="json", exclude_defaults=True)
        row = self._unit.session.exec(select(ShopRow)).first()
        if row is None:
            self._unit.session.add(ShopRow(workspace_id=self._unit.workspace_id, document=document))
            self._counts["added"] += 1
        elif row.document != document:
            with self._changing("shop", row, "what the shop sells"):
                row.document = document
        self._again()

    def _forms_and_segments(self) -> None:
        session = self._unit.session
        for part in self._setup.forms:
            try:
                local = localised(part.document, self._unit.catalogue)
            except KeyError as problem:
                message = f"The form {part.slug} asks for {problem.args[0]}, which is not there."
                raise InvalidInput({"file": message}) from None
            document = Form.model_validate(local).model_dump(mode="json")
            row = session.exec(select(FormRow).where(col(FormRow.slug) == part.slug)).first()
            if row is None:
                channel = document["channel"]
                row = FormRow(workspace_id=self._unit.workspace_id, slug=part.slug, channel=channel, draft=document)
                session.add(row)
                session.flush()
                self._counts["added"] += 1
            elif row.draft != document:
                with self._changing("form", row, part.slug):
                    row.draft, row.revision = document, row.revision + 1
            if part.published and not row.published:
                self._publish(row, document)
            self._set_by(row, part)
        for segment in self._setup.segments:
            known = session.exec(select(Segment).where(col(Segment.name) == segment.name)).first()
            if known is None:
                taken = set(session.exec(select(Segment.key)).all())
                free = segment.called and segment.called not in taken
                key = segment.called if free else key_from_label(segment.name, taken)
                parts = segment.model_dump(exclude={"called"}) | {"key": key, "owner": self._unit.actor}
                session.add(Segment(workspace_id=self._unit.workspace_id, **parts))
                session.flush()
                self._counts["added"] += 1
            elif (known.description, known.expression, known.folder) != (
                segment.description, segment.expression, segment.folder or known.folder,
            ):  # fmt: skip
                with self._changing("segment", known, segment.name):
                    known.description, known.expression = segment.description, segment.expression
                    known.folder = segment.folder or known.folder
                    known.revision += 1
        self._again()

    def _personal_links(self) -> None:
        session = self._unit.session
        for part in self._setup.personal_links:
            form_id = session.exec(select(FormRow.id).where(col(FormRow.slug) == part.form)).first()
            script_id = session.exec(select(ChatScriptRow.id).where(col(ChatScriptRow.slug) == part.script)).first()
            if form_id is None and script_id is None:
                opens = part.form or part.script
                raise InvalidInput({"file": f"The personal link {part.name} opens {opens}, which is not there."})
            parts = part.model_dump(exclude={"form", "script"}) | {"form_id": form_id, "script_id": script_id}
            row = session.exec(select(PersonalLinkRow).where(col(PersonalLinkRow.key) == part.key)).first()
            if row is None:
                session.add(PersonalLinkRow(workspace_id=self._unit.workspace_id, **parts))
                self._counts["added"] += 1
            elif any(getattr(row, name) != value for name, value in parts.items()):
                with self._changing("personal_link", row, part.name):
                    for name, value in parts.items():
                        setattr(row, name, value)
        self._again()

    def _set_by(self, row: FormRow, part: FormPart) -> None:
        """Which answers of a form set which house values here."""
        if not part.sets:
            return
        here = (col(HouseMapping.form_id) == row.id, col(HouseMapping.target_slug) == "")
        mapping = self._unit.session.exec(select(HouseMapping).where(*here)).first() or HouseMapping(
            workspace_id=self._unit.workspace_id, form_id=row.id or 0, target_slug="", who="yes"
        )
        asked = self._unit.catalogue.by_key
        pairs = [[asked[key].id, house] for key, house in part.sets.items() if key in asked]
        mapping.allowed = bool(mapping.allowed) and mapping.pairs == pairs
        mapping.pairs = pairs
        self._unit.session.add(mapping)

    def _publish(self, row: FormRow, document: dict[str, Any]) -> None:
        """Publish a form that is not yet, where nothing keeps it from being; else it stays a draft that says why."""
        if document_problems(self._unit, Form.model_validate(document)):
            return
        row.published = 1
        version = FormVersion(
            form_id=row.id or 0,
            number=1,
            workspace_id=self._unit.workspace_id,
            document=document,
            published_by=self._unit.actor,
            published_at=self._unit.moment.now,
        )
        self._unit.session.add(row)
        self._unit.session.add(version)

    def _values(self) -> None:
        house = self._unit.catalogue.keys_of(HOUSE)
        values = {
            key: from_json(data, house[key].value_type)
            for key, data in self._setup.house_values.items()
            if key in house and house[key].stores
        }
        if values:
            self._counts["changed"] += len(change_row(self._unit, HOUSE, HOUSE_ID, values, "starter set"))
        level_fields = self._unit.catalogue.keys_of(LEVEL)
        for level in self._unit.catalogue.levels:
            data = self._setup.level_values.get(level.key, {})
            found = {
                key: from_json(one, level_fields[key].value_type) for key, one in data.items() if key in level_fields
            }
            if found:
                change_row(self._unit, LEVEL, level.id, found, "starter set")

    def _remove(self, field_ids: Sequence[int]) -> None:
        for field_id in field_ids:
            take_away(self._unit, self._unit.catalogue.by_id[field_id])
            self._counts["removed"] += 1
