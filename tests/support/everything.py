"""A setup with every type and about: what a whole business might keep."""

from finesieve.core.commerce.shop import Shop
from finesieve.core.fields.types import TYPES
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.define.options import OptionListInput, create_option_list
from finesieve.services.define.record_types import LinkInput, RecordTypeInput, add_link, create_record_type
from tests.support.house import House
from tests.support.shop import SHOP

SCHEMA = '{"type": "object", "properties": {"rain": {"type": "number"}}, "required": ["rain"]}'
SETTINGS: dict[str, dict[str, object]] = {
    "number": {"low": "0", "high": "100", "step": "0.5", "decimals": 2},
    "money": {"low": "0", "currency": "EUR"},
    "choices": {"fewest": 1, "most": 2},
    "text_list": {"fewest": 1, "most": 3},
    "file": {"media": ["pdf"], "most_kilobytes": 200, "files_for": "editors"},
    "structured": {"json_schema": SCHEMA},
    "region": {"country": "GB"},
    "postcode": {"country": "GB"},
    "phone": {"country": "GB"},
    "short_text": {"unique": True, "longest": 40, "purpose": "To try", "sample_text": "such as this"},
}
ANSWERS = {
    "short_text": "North bed", "long_text": "Two lines\nof text", "email": "bed@hedgerow.example",
    "phone": "01632 960147", "url": "https://bed.example/a", "secret": "open sesame", "number": "12.5",
    "money": "3.50", "yes_no": "yes", "agreement": "yes", "choice": "a", "choices": "a\nb", "progress": "b",
    "date": "2026-03-01", "time": "09:30", "datetime": "2026-03-01T09:30", "day_of_year": "05-27",
    "colour": "#205844", "country": "FR", "region": "GB-CON", "postcode": "DG99 1AG", "text_list": "one\ntwo", "structured": '{"rain": 3}',
}  # fmt: skip
"""An answer a type, as typed; files and choices among records have none."""


def everything(house: House) -> dict[str, int]:
    """Define a field of every type about a person, and something about everything else; ids by type."""
    set_up_shop(house.scope, Shop.model_validate(SHOP))
    scope = house.scope
    list_id = create_membership(scope, "list", MembershipInput(name="Growers letter", description="Monthly"))
    for name in ("Sprout", "Sower"):
        create_membership(scope, "level", MembershipInput(name=name))
    shared = create_option_list(scope, OptionListInput(name="Sizes", options="Small\nLarge"))
    schools = create_record_type(scope, RecordTypeInput(singular="School", plural="Schools", holder="Member"))
    plots = create_record_type(scope, RecordTypeInput(singular="Plot", plural="Plots", symbol="▦", description="Land"))
    add_link(scope, plots, LinkInput(name="Helper", back_name="Helped plots", many=True))
    add_link(scope, plots, LinkInput(name="School", back_name="School plots", target=f"record:{schools}"))
    group = create_group(scope, GroupInput(name="Everything", about="person", description="One of each", folded=True))
    found = {}
    for type_key, type_ in TYPES.items():
        settings = dict(SETTINGS.get(type_key, {})) | ({"record_type": plots} if type_key == "record" else {})
        options = "A\nB = b\tsecond" if type_key == "choices" else "A\ta\t2\t1.50\nB\tb"
        found[type_key] = create_field(
            scope,
            group,
            FieldInput(
                label=f"The {type_.label.lower()}", key=f"the_{type_key}", type_key=type_key, settings=settings,
                options="A\nB\nC" if type_key == "choices" else options if type_.has_options else "",
                unit="m" if type_key == "number" else "",
            ),
        )  # fmt: skip
    create_field(
        scope, group, FieldInput(label="Size", type_key="choice", settings={"option_list": shared, "lists": [list_id]})
    )
    for about, label in (("order", "Shelf"), ("level", "Packets"), ("house", "Swap link"), (f"record:{plots}", "Soil")):
        groups = [known for known in read_catalogue(scope).all_groups if known.about == about]
        group_id = groups[0].id if groups else create_group(scope, GroupInput(name=f"About {label}", about=about))
        create_field(scope, group_id, FieldInput(label=label, type_key="number" if about == "level" else "short_text"))
    return found
