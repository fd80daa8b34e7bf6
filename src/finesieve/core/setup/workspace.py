"""A setup as a workspace without a database: its catalogue and forms, under ids made up in the order of the file."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import count
from typing import Any, Final

from pydantic import ValidationError

from finesieve.core.chat.portable import localised_script
from finesieve.core.chat.script import Script
from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, record_about
from finesieve.core.fields.built_in import ALWAYS, BUILT_IN_BY_KEY, PARTS
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import from_json
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.fields.manner import Manner
from finesieve.core.fields.options import Option, option_from_json
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.forms.definition import Form
from finesieve.core.forms.portable import localised
from finesieve.core.language.program import Moment
from finesieve.core.model.catalogue import Catalogue, Group, Link, NamedList, RecordType, build_catalogue
from finesieve.core.setup.document import FieldPart, Setup
from finesieve.core.values import Value

__all__ = ["POINTING", "SetupWorkspace", "pointed", "workspace_of"]

POINTING: Final = ("lists", "change_levels", "option_list", "record_type", "joined_list")
"""Settings that name something else in the setup."""


@dataclass(frozen=True)
class SetupWorkspace:
    """What a file defines. `sets` are, by form, the house values that answers set; `house` the values of the house,
    `levels` those of each level, by its key."""

    catalogue: Catalogue
    forms: Mapping[str, Form]
    sets: Mapping[str, Mapping[str, str]]
    house: Mapping[str, Value]
    levels: Mapping[str, Mapping[str, Value]] = field(default_factory=dict)
    scripts: Mapping[str, Script] = field(default_factory=dict)

    def levels_at(self, moment: Moment, values: Mapping[str, Mapping[str, Value]]) -> dict[str, dict[str, Value]]:
        """The values of each level at a moment: of the file, then `values`, and what is worked out from them."""
        keys = [known.key for known in self.catalogue.fields_about(LEVEL) if known.stores or known.derived]
        blank: dict[str, Value] = dict.fromkeys(known.key for known in self.catalogue.stored_about(LEVEL))
        found = {}
        for level in self.catalogue.levels:
            held = {**blank, **self.levels.get(level.key, {}), **values.get(level.key, {})}
            row = self.catalogue.derivation_of(LEVEL).row(held, moment)
            found[level.key] = {key: row.get(key) for key in keys}
        return found

    def house_at(self, moment: Moment, values: Mapping[str, Value]) -> dict[str, Value]:
        """All house values at a moment, those of the file and then `values`, and what is worked out from them.

        Of formulas over people there is nothing to work out: they see nobody.
        """
        found: dict[str, Value] = dict.fromkeys(known.key for known in self.catalogue.stored_about(HOUSE))
        found |= {**self.house, **values}
        derivation = self.catalogue.derivation_of(HOUSE)
        now = Moment(moment.now, moment.zone, found, moment.manner)
        row = derivation.row({**found, "people": ()}, now)
        for key in derivation.formulas:
            found[key] = row[key]
        return found


def pointed(
    settings: Mapping[str, Any],
    *,
    lists: Mapping[str, int],
    levels: Mapping[str, int],
    option_lists: Mapping[str, int],
    record_types: Mapping[str, int],
) -> FieldSettings:
    """Settings of a part of a file with ids in the place of what they name; what is not there is left out."""
    found = dict(settings)
    for name, known in (("lists", lists), ("change_levels", levels)):
        if name in found:
            found[name] = [known[key] for key in found[name] if key in known]
    for name, known in (("option_list", option_lists), ("record_type", record_types), ("joined_list", lists)):
        if found.get(name):
            found[name] = known.get(found[name])
    return FieldSettings.model_validate(found)


def workspace_of(setup: Setup, manner: Manner) -> SetupWorkspace:
    """The workspace that a file describes. Raises InvalidInput, with a sentence, where its parts do not fit together.

    What every workspace has from the start is there, also where the file does not have it.
    """
    if setup.misfits:
        raise InvalidInput({"file": setup.misfits[0].why})
    try:
        return _Maker(setup, manner).workspace()
    except ValidationError as problem:
        first = problem.errors()[0]
        place = ".".join(str(step) for step in first["loc"])
        raise InvalidInput({"file": f"At {place}: {first['msg']}."}) from None
    except KeyError as problem:
        raise InvalidInput({"file": f"“{problem.args[0]}” is named in this file, but is not in it."}) from None
    except (ValueError, TypeError, AttributeError) as problem:
        raise InvalidInput({"file": str(problem).partition("\n")[0][:200]}) from None


class _Maker:
    def __init__(self, setup: Setup, manner: Manner) -> None:
        self._setup, self._manner = setup, manner
        self._types = {part.key: number for number, part in enumerate(setup.record_types, 1)}
        self._lists = _numbered(part.key for part in setup.lists)
        self._levels = _numbered(part.key for part in setup.levels)
        self._shared = {part.name: tuple(map(option_from_json, part.options)) for part in setup.option_lists}
        self._shared_ids = _numbered(self._shared)
        abouts = [(self._about(part.about), part.name) for part in setup.groups]
        self._groups = {place: number for number, place in enumerate(abouts, 1)}

    def workspace(self) -> SetupWorkspace:
        fields = self._fields()
        catalogue = build_catalogue(
            1,
            self._manner.zone,  # type: ignore[arg-type]  # any zone will do
            self._all_groups(),
            fields,
            record_types=self._record_types(fields),
            lists=[NamedList(self._lists[part.key], part.key, part.name) for part in self._setup.lists],
            levels=[
                NamedList(self._levels[part.key], part.key, part.name, part.lasts, part.fee)
                for part in self._setup.levels
            ],
            manner=self._manner,
            shop=self._setup.shop,
        )
        self._refuse_broken(catalogue)
        forms = {part.slug: Form.model_validate(localised(part.document, catalogue)) for part in self._setup.forms}
        house = catalogue.keys_of(HOUSE)
        values = {
            key: from_json(data, house[key].value_type)
            for key, data in self._setup.house_values.items()
            if key in house
        }
        of_level = {key: field.value_type for key, field in catalogue.keys_of(LEVEL).items() if field.stores}
        levels = {
            level: {key: from_json(data, of_level[key]) for key, data in held.items() if key in of_level}
            for level, held in self._setup.level_values.items()
        }
        scripts = {
            part.slug: Script.model_validate(localised_script(part.document, catalogue)) for part in self._setup.scripts
        }
        sets = {part.slug: part.sets for part in self._setup.forms}
        return SetupWorkspace(catalogue, forms, sets, values, levels, scripts)

    def _refuse_broken(self, catalogue: Catalogue) -> None:
        for known in catalogue.all_fields:
            if known.derived and known.key in catalogue.broken_by_about.get(known.about, ()):
                problems = catalogue.check(known.formula, about=known.about).problems
                why = problems[0].message if problems else "It leans on itself."
                raise InvalidInput({"file": f"The formula of {known.label}: {why}"})

    def _about(self, about: str) -> str:
        if about.startswith("record:"):
            return record_about(self._types[about.removeprefix("record:")])
        if about not in (PERSON, ORDER, LEVEL, HOUSE):
            raise KeyError(about)
        return about

    def _all_groups(self) -> list[Group]:
        made = [
            Group(number, part.name, part.description, about, GroupSettings.model_validate(part.settings))
            for part, ((about, _), number) in zip(self._setup.groups, self._groups.items(), strict=True)
        ]
        return [*made, Group(0, "About everyone")]

    def _fields(self) -> list[Field]:
        numbers = count(1)
        made = [self._field(next(numbers), part) for part in self._setup.fields]
        there = {known.key for known in made if known.about == PERSON}
        return made + [
            Field(
                next(numbers), known.key, known.label, known.type_key, 0, known.help, known.required,
                options=known.options, built_in=True, manner=self._manner,
            )
            for known in _ALWAYS_THERE
            if known.key not in there
        ]  # fmt: skip

    def _field(self, number: int, part: FieldPart) -> Field:
        about = self._about(part.about)
        settings = pointed(
            part.settings,
            lists=self._lists,
            levels=self._levels,
            option_lists=self._shared_ids,
            record_types=self._types,
        )
        return Field(
            number,
            part.key,
            part.label,
            part.type,
            self._group(about, part.group),
            part.help,
            part.required,
            part.unit,
            self._options(part),
            part.built_in,
            part.formula,
            about=about,
            settings=settings,
            manner=self._manner,
        )

    def _group(self, about: str, name: str) -> int:
        if (about, name) not in self._groups:
            raise KeyError(name)
        return self._groups[(about, name)]

    def _options(self, part: FieldPart) -> tuple[Option, ...]:
        shared = part.settings.get("option_list")
        return self._shared[shared] if shared else tuple(option_from_json(option) for option in part.options)

    def _record_types(self, fields: list[Field]) -> list[RecordType]:
        ids = {(known.about, known.key): known.id for known in fields}
        links: dict[str, list[Link]] = {}
        for number, part in enumerate(self._setup.links, 1):
            link = Link(
                number,
                self._types[part.record_type],
                part.name,
                self._about(part.target),
                part.many,
                part.back_name,
                part.back_key,
            )
            links.setdefault(part.record_type, []).append(link)
        return [
            RecordType(
                number,
                part.key,
                part.singular,
                part.plural,
                part.symbol,
                part.description,
                ids.get((record_about(number), part.title), 0),
                tuple(links.get(part.key, ())),
            )
            for number, part in enumerate(self._setup.record_types, 1)
        ]


_ALWAYS_THERE: Final = (*next(part.fields for part in PARTS if part.key == ALWAYS), BUILT_IN_BY_KEY["role"])
"""What a person has whether a file says so or not."""


def _numbered(keys: Any) -> dict[str, int]:
    return {key: number for number, key in enumerate(keys, 1)}
