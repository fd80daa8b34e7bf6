"""House values chosen first: the fields, the form that asks for them and what sets what, made in one step."""

from collections.abc import Sequence

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.definition import Field
from finesieve.services.define.fields import FieldInput, group_of, make_field, patiently
from finesieve.services.define.groups import GroupInput, make_group
from finesieve.services.filling.mapping import allow_mapping, change_mapping
from finesieve.services.forms.composing import add_questions
from finesieve.services.forms.forms import create_form, read_form
from finesieve.services.kernel.scope import Scope, Unit, reload

__all__ = ["GROUP", "form_for_house_values"]

GROUP = "Asked for the house"
"""The group of the fields that take such answers."""


def form_for_house_values(scope: Scope, field_ids: Sequence[int], title: str, *, kept: bool = False) -> int:
    """A form that asks for these house values, with the fields that take the answers; gives its id.

    The answers are `kept` on who sends them, too, or not. What somebody sends sets nothing before an editor has said
    yes; who may without can be said afterwards. Raises InvalidInput for none, and for values that no form can set.
    """

    def make() -> int:
        with scope.transaction("editor") as unit:
            values = [_settable(unit, one) for one in dict.fromkeys(field_ids)]
            if not values:
                raise InvalidInput({"value": "Tick the house values that the form shall ask for."})
            group_id = next(
                (group.id for group in unit.catalogue.groups_about(PERSON) if group.name == GROUP), 0
            ) or make_group(unit, GroupInput(name=GROUP, description="Answers that become house values."))
            here, made = reload(unit), {}
            for value in values:
                made[_asking(here, value, group_id)] = value.key
                here = reload(here)
            form_id = create_form(scope, title)
            add_questions(scope, form_id, read_form(scope, form_id).revision, list(made), passing=not kept)
            change_mapping(scope, form_id, "", made)
            allow_mapping(scope, form_id, "", allowed=True, who="yes")
            return form_id

    return patiently(make)


def _settable(unit: Unit, field_id: int) -> Field:
    value = unit.catalogue.by_id.get(field_id)
    if value is None or value.about != HOUSE or value.derived or value.type.kind == "secret":
        raise InvalidInput({"value": "One of these is no house value that a form can set."})
    return value


def _asking(unit: Unit, value: Field, group_id: int) -> int:
    """A field of a person that takes the answer; gives its id."""
    settings = value.settings.model_dump(exclude_defaults=True)
    kept = {
        name: one
        for name, one in settings.items()
        if name not in ("unique", "lists", "private", "country_from", "joined_list")
    }
    asked = FieldInput(
        label=value.label,
        type_key=value.type_key,
        help=value.help,
        unit=value.unit,
        settings={**kept, "renamed": {}, "called": ()},
    )
    return make_field(unit, group_of(unit.catalogue, group_id), asked, value.offered)
