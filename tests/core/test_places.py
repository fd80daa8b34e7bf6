"""Places: regions and postcodes that follow a country, and addresses as their country prints them."""

import unittest
from dataclasses import replace

from finesieve.core.fields.built_in import ADDRESSES, BUILT_IN_BY_KEY, PARTS, address_keys
from finesieve.core.fields.definition import Field
from finesieve.core.fields.families.places import country_codes, needs_postcode, printed_address, regions_of
from finesieve.core.fields.manner import manner_of
from finesieve.core.fields.settings import FieldSettings

FOLLOWS = FieldSettings(country_from="country")
REGION = Field(1, "region", "Region", "region", 1, settings=FOLLOWS, manner=manner_of("en", "GB"))
POSTCODE = replace(REGION, key="postcode", type_key="postcode")
HOME = {"name": "Wren Ash", "street": "1 Barn Lane", "town": "Ely", "postcode": "CB7 4JN", "region": "GB-CAM"}


class Following(unittest.TestCase):
    def test_a_region_follows_the_country_beside_it(self) -> None:
        germany = REGION.beside({"country": "DE"})
        self.assertEqual(germany.parse("Bayern"), "DE-BY")
        with self.assertRaisesRegex(ValueError, "Choose a region of Germany"):
            germany.parse("Devon")
        with self.assertRaisesRegex(ValueError, "Choose a region of Germany"):
            germany.parse("GB-DEV")
        self.assertEqual(REGION.beside({"country": None}).parse("Devon"), "GB-DEV")

    def test_its_values_may_be_of_any_country(self) -> None:
        """So that a condition may name a region of each."""
        self.assertLessEqual({"GB-DEV", "DE-BY", "US-CA"}, set(REGION.value_type.options))
        self.assertEqual(len(REGION.value_type.options), len(REGION.value_type.words))

    def test_a_postcode_follows_it_too(self) -> None:
        self.assertEqual(POSTCODE.beside({"country": "NL"}).parse("1234ab"), "1234 AB")
        with self.assertRaisesRegex(ValueError, "no postcode of Germany; it looks like 26133"):
            POSTCODE.beside({"country": "DE"}).parse("CB7 4JN")

    def test_one_field_is_not_the_other(self) -> None:
        """Working out beside a country leaves the field as it was."""
        REGION.beside({"country": "DE"})
        self.assertEqual(REGION.parse("Devon"), "GB-DEV")


class Regions(unittest.TestCase):
    def test_plain_names(self) -> None:
        names = dict(regions_of("GB"))
        self.assertEqual(names["GB-BST"], "City of Bristol")
        self.assertEqual(names["GB-CRF"], "Cardiff")
        self.assertEqual(names["GB-NMD"], "Newry, Mourne and Down")
        self.assertEqual(dict(regions_of("ES"))["ES-MC"], "Región de Murcia")

    def test_none_has_signs_of_a_list_or_a_name_twice(self) -> None:
        for country in country_codes():
            names = [name for _, name in regions_of(country)]
            self.assertEqual(len(names), len(set(names)), country)
            for name in names:
                self.assertNotRegex(name, r"[\[\]()]", country)
                self.assertEqual(name, name.strip())

    def test_whatever_is_offered_is_read(self) -> None:
        for country in ("GB", "DE", "ES", "MD", "RU", "US"):
            field = REGION.beside({"country": country})
            for code, name in regions_of(country):
                self.assertEqual((field.parse(code), field.parse(name)), (code, code), name)


class Printed(unittest.TestCase):
    def test_at_home_and_abroad(self) -> None:
        self.assertEqual(printed_address(HOME, "GB", "GB", "en_GB"), ("Wren Ash", "1 Barn Lane", "ELY", "CB7 4JN"))
        self.assertEqual(printed_address(HOME, "", "GB", "en_GB")[-1], "CB7 4JN")
        german = {**HOME, "street": "Hauptstr. 5", "extra": "Hinterhaus", "town": "Jena", "postcode": "07743"}
        self.assertEqual(
            printed_address(german, "DE", "GB", "en_GB"),
            ("Wren Ash", "Hauptstr. 5", "Hinterhaus", "07743 JENA", "GERMANY"),
        )
        american = {**HOME, "town": "Ely", "region": "US-CA", "postcode": "94043", "company": "Ash & Co"}
        self.assertEqual(
            printed_address(american, "US", "DE", "de_DE"),
            ("Wren Ash", "Ash & Co", "1 Barn Lane", "ELY, CA 94043", "VEREINIGTE STAATEN"),
        )

    def test_nothing_to_print(self) -> None:
        self.assertEqual(printed_address({"name": "Wren", "company": "Ash & Co"}, "GB", "GB", "en_GB"), ())
        own = {"first": ["Fragile"], "name": ["c/o Ash"], "street": ["Gate 4"], "last": ["Call first"]}
        self.assertEqual(
            printed_address(HOME, "GB", "DE", "en_GB", own),
            (
                "Fragile",
                "Wren Ash",
                "c/o Ash",
                "1 Barn Lane",
                "Gate 4",
                "ELY",
                "CB7 4JN",
                "Call first",
                "UNITED KINGDOM",
            ),
        )

    def test_every_country(self) -> None:
        """Also those of which the library knows nothing."""
        for country in country_codes():
            with self.subTest(country):
                lines = printed_address({"street": "1 Barn Lane", "town": "Ely"}, country, "GB", "en_GB")
                self.assertIn("1 BARN LANE", " ".join(lines).upper())
                self.assertIn(needs_postcode(country), (True, False))


class Parts(unittest.TestCase):
    def test_they_hold_together(self) -> None:
        """Keys once; a field that follows a country follows one of its own part; an address has all of its lines."""
        keys = [known.key for part in PARTS for known in part.fields]
        self.assertEqual(len(keys), len(set(keys)))
        for part in PARTS:
            own = {known.key: known for known in part.fields}
            for known in part.fields:
                follows = known.settings.country_from
                self.assertTrue(not follows or own[follows].type_key == "country")
        for kind in ADDRESSES:
            self.assertLessEqual(set(address_keys(kind).values()), set(BUILT_IN_BY_KEY))
