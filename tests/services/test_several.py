"""Several fields from pasted lines; twins of built-in fields; an age that is kept."""

import unittest

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.built_in import twin_of
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.define.several import make_several, read_pasted
from finesieve.services.kernel.changes import undo_change
from finesieve.services.upkeep.readings import find_all
from tests.support.house import make_house

LINES = """Hive name | Short text
Honey a year\tNumber (kg)
Soil kind | one choice | Clay; Loam; Sand
Bloom | | early, late
Stage | status | sown; up; picked
E-mail address | email
Nickname
 | number
Weight | numbr
Zone | text
Hive name | text
"""


class Several(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope, self.group = self.house.scope, self.house.group_id()

    def test_each_line_says_what_comes_of_it(self) -> None:
        found = read_pasted(self.scope, self.group, LINES)
        self.assertEqual(
            [(one.label, one.type_key) for one in found if not one.problem],
            [("Hive name", "short_text"), ("Honey a year", "number"), ("Soil kind", "choice"), ("Bloom", "choice"),
             ("Stage", "progress"), ("E-mail address", "email"), ("Nickname", "short_text")],
        )  # fmt: skip
        self.assertEqual((found[1].unit, found[2].options), ("kg", ("Clay", "Loam", "Sand")))
        self.assertEqual(found[5].twin[0].key if found[5].twin else "", "email")
        said = [one.problem for one in found if one.problem]
        self.assertIn("missing", said[0])
        self.assertIn("Nearest: number", said[1])
        self.assertEqual([one.split()[:4] for one in said[2:]], [["There", "is", "a", "field"]] * 2)

    def test_made_together_and_taken_back_together(self) -> None:
        before = set(read_catalogue(self.scope).by_key)
        made, change = make_several(self.scope, self.group, LINES)
        by_key = read_catalogue(self.scope).by_key
        self.assertEqual((made, len(set(by_key) - before)), (7, 7))
        self.assertEqual((by_key["honey_a_year"].unit, len(by_key["soil_kind"].options)), ("kg", 3))
        self.house.add(hive_name="North stand")
        undo_change(self.scope, change)
        self.assertEqual(set(read_catalogue(self.scope).by_key), before)
        undo_change(self.scope, change, again=True)
        self.assertEqual(len(set(read_catalogue(self.scope).by_key) - before), 7)

    def test_labels_that_would_have_one_key_get_two(self) -> None:
        make_several(self.scope, self.group, "Bee hive\nBee-hive\nBee  hive!")
        self.assertLessEqual({"bee_hive", "bee_hive_2", "bee_hive_3"}, set(read_catalogue(self.scope).by_key))

    def test_nothing_to_make_and_too_much(self) -> None:
        for text in ("", "Zone | text", "x\n" * 61):
            with self.assertRaises(InvalidInput):
                make_several(self.scope, self.group, text)


class Twins(unittest.TestCase):
    def test_in_any_spelling_and_order(self) -> None:
        for label, key in (
            ("E-mail address", "email"), ("Address (e-mail)", "email"), ("your EMAIL", "email"), ("Name, first", "first_name"),
            ("Family_name", "last_name"), ("Mobile no.", "phone"), ("Member since", "signed_up_on"), ("Joining date", "signed_up_on"),
            ("Street", "billing_street"), ("Post-code", "billing_postcode"), ("Delivery: town", "delivery_town"), ("ZIP", "billing_postcode"),
            ("Consent to newsletter", "consent_email"), ("Newsletter consent", "consent_email"), ("Language, preferred", "preferred_language"),
            ("Organisation", "company"), ("Kind of customer", "role"), ("County", "billing_region"), ("Last visit", "last_seen"),
        ):  # fmt: skip
            with self.subTest(label):
                found = twin_of(label)
                self.assertEqual(found[0].key if found else "", key)
        for label in ("Plot name", "Email colour", "Phone model", "Web address", "Post office", "Street parking"):
            self.assertIsNone(twin_of(label), label)

    def test_an_age_is_no_number_to_keep(self) -> None:
        house = make_house()
        create_field(house.scope, house.group_id(), FieldInput(label="Age", type_key="number"))
        create_field(house.scope, house.group_id(), FieldInput(label="Average", type_key="number"))
        create_membership(house.scope, "list", MembershipInput(name="Almanac letter"))
        for label, type_key in (
            ("Joined the letter on", "date"),
            ("Letter joined", "short_text"),
            ("Joined a swap", "date"),
            ("Letter of", "date"),
        ):
            create_field(house.scope, house.group_id(), FieldInput(label=label, type_key=type_key))
        kept = [one.message for one in find_all(house.scope) if one.code == "joining-kept"]
        self.assertEqual([message.partition(" is kept")[0] for message in kept], ["Joined the letter on"])
        found = [one.message for one in find_all(house.scope) if one.code == "age-kept"]
        self.assertEqual(len(found), 1, found)
