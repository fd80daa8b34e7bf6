"""The checkout that a house begins with: what a shop has to ask, each on its place of the page."""

from typing import Final

from finesieve.core.fields.about import ORDER
from finesieve.core.fields.built_in import address_keys
from finesieve.core.forms.definition import Form, Question, Section
from finesieve.core.forms.page import Slot
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, make_field
from finesieve.services.define.groups import GroupInput, make_group
from finesieve.services.forms.drafting import change_draft
from finesieve.services.forms.forms import create_form, read_form
from finesieve.services.kernel.scope import Scope, Unit

__all__ = ["create_account_form", "create_checkout"]

_CONTACT: Final = {"first_name": True, "last_name": True, "company": None, "phone": None}
_ADDRESS: Final = {"country": True, "street": True, "extra": None, "town": True, "region": None, "postcode": None}
_ELSEWHERE: Final = ("Deliver to another address", "yes_no")
_NOTE: Final = ("Note for the packer", "long_text")


def create_checkout(scope: Scope, title: str) -> int:
    """Make a checkout that asks what most shops have to: contact, billing, delivery where that differs, a note.

    Built-in facts that are not in use yet are taken into use. Gives its id. Raises as `create_form` does, and
    InvalidInput where a field of the house's own is in the way.
    """
    with scope.transaction("editor") as unit:
        form_id = create_form(scope, title, "checkout")
        for part in ("work", "billing", "delivery"):
            use_part(scope, part)
        elsewhere, note = (_order_field(unit, *one) for one in (_ELSEWHERE, _NOTE))

        def change(unit: Unit, form: Form) -> tuple[str, dict[str, object]]:
            sections = _sections(unit, form, elsewhere, note)
            return f"Made {form.title}", {"sections": sections}

        change_draft(scope, form_id, read_form(scope, form_id).revision, change)
        return form_id


_OWN: Final = ("first_name", "last_name", "company", "phone")


def create_account_form(scope: Scope, title: str) -> int:
    """Make the form of an account page: it begins with how somebody is called and reached. Gives its id.

    Raises as `create_form` does.
    """
    with scope.transaction("editor") as unit:
        form_id = create_form(scope, title, "account")
        known = [unit.catalogue.by_key[key] for key in _OWN if key in unit.catalogue.by_key]

        def change(_unit: Unit, form: Form) -> tuple[str, dict[str, object]]:
            more = (Question(id=f"q{number}", field_id=field.id) for number, field in enumerate(known, 2))
            section = form.sections[0].model_copy(update={"title": "You", "items": (*form.questions, *more)})
            return f"Made {form.title}", {"sections": [section]}

        change_draft(scope, form_id, read_form(scope, form_id).revision, change)
        return form_id


def _order_field(unit: Unit, label: str, type_key: str) -> int:
    """The field about an order with this label, made where there is none."""
    known = next(
        (one for one in unit.catalogue.fields_about(ORDER) if (one.label, one.type_key) == (label, type_key)), None
    )
    if known is not None:
        return known.id
    if not unit.catalogue.groups_about(ORDER):
        make_group(unit, GroupInput(name="On the order", about=ORDER))
    return make_field(unit, unit.catalogue.groups_about(ORDER)[0], FieldInput(label=label, type_key=type_key), ())


def _sections(unit: Unit, form: Form, elsewhere: int, note: int) -> list[Section]:
    number = 1
    known = unit.catalogue.by_key

    def asked(keys: dict[str, bool | None], of: str = "") -> list[Question]:
        nonlocal number
        made = []
        for key, required in keys.items():
            field = known.get(address_keys(of)[key] if of else key)
            if field is not None:
                number += 1
                made.append(Question(id=f"q{number}", field_id=field.id, required=required))
        return made

    def alone(field_id: int) -> Question:
        nonlocal number
        number += 1
        return Question(id=f"q{number}", field_id=field_id)

    def section(place: int, title: str, slot: Slot, items: list[Question], show_when: str = "") -> Section:
        return Section(id=f"s{place}", title=title, slot=slot, items=tuple(items), show_when=show_when)

    other = unit.catalogue.by_id[elsewhere].key
    return [
        section(1, "Contact", "contact", [*form.questions, *asked(_CONTACT)]),
        section(2, "Billing address", "billing", [*asked(_ADDRESS, "billing"), alone(elsewhere)]),
        section(3, "Delivery address", "address", asked(_ADDRESS, "delivery"), f"order.{other}"),
        section(4, "", "note", [alone(note)]),
    ]
