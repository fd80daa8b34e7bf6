"""What labels mean, and what follows from it: two facts that are one, a status beside its date, a twin of a title."""

import unittest
from dataclasses import replace

from finesieve.core.fields.definition import Field
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.model.catalogue import RecordType
from finesieve.core.reasoning.findings import FINDINGS, Facts, findings
from finesieve.core.reasoning.meanings import meaning_of, numbered
from tests.support.forms import CATALOGUE, PLOT

FACTS = Facts(people=0, filled={}, collected={}, used={})


def found(code: str, *fields: Field, facts: Facts = FACTS, title: int = 0) -> list[str]:
    types = [RecordType(5, "plot", "Plot", "Plots", title_field=title)]
    catalogue = replace(CATALOGUE, all_fields=fields, record_types=tuple(types))
    return [one.message for one in findings(catalogue, facts) if one.code == code]


def field(number: int, label: str, type_key: str = "short_text", **more: object) -> Field:
    return Field(number, label.lower().replace(" ", "_"), label, type_key, 1, **more)  # type: ignore[arg-type]


class Meanings(unittest.TestCase):
    def test_the_same_in_other_words(self) -> None:
        for one, other in (
            ("Birthday", "Date of birth"), ("Born on", "Birth date"), ("Mobile number", "Telephone"), ("Zip code", "Postal code"),
            ("Notes", "Remarks"), ("Web site", "Homepage"), ("Name of the plot", "Plot name"), ("E-mail", "email"),
        ):  # fmt: skip
            self.assertEqual(meaning_of(one), meaning_of(other), (one, other))
        for one, other in (
            ("Plot length", "Plot width"),
            ("First name", "Last name"),
            ("Email", "Phone"),
            ("Town", "Street"),
        ):
            self.assertNotEqual(meaning_of(one), meaning_of(other), (one, other))

    def test_two_fields_of_one_meaning(self) -> None:
        two = field(1, "Birthday", "day_of_year"), field(2, "Date of birth", "date")
        self.assertEqual(len(found("same-meaning", *two)), 1)
        self.assertEqual(found("same-meaning", two[0], replace(two[1], about=PLOT)), [])


class Kinds(unittest.TestCase):
    def test_a_status_beside_the_date_that_decides_it(self) -> None:
        until = field(1, "Member until", "date")
        self.assertEqual(len(found("status-kept", until, field(2, "Membership status", "choice"))), 1)
        self.assertEqual(len(found("status-kept", until, field(2, "Active", "yes_no"))), 1)
        self.assertEqual(found("status-kept", until, field(2, "Zone", "choice")), [])
        self.assertEqual(found("status-kept", field(1, "Born", "date"), field(2, "Active", "yes_no")), [])
        self.assertEqual(found("status-kept", replace(until, about=PLOT), field(2, "Active", "yes_no")), [])

    def test_a_twin_of_what_names_a_record(self) -> None:
        name, twin = field(1, "Name", about=PLOT), field(2, "Plot name", about=PLOT)
        self.assertEqual(len(found("title-twin", name, twin, title=1)), 1)
        self.assertEqual(found("title-twin", name, field(2, "Soil", about=PLOT), title=1), [])

    def test_records_of_no_kind(self) -> None:
        lost = field(1, "Favourite", "record", settings=FieldSettings(record_type=99))
        self.assertEqual(
            len(found("record-untyped", lost, field(2, "Own", "record", settings=FieldSettings(record_type=5)))), 1
        )

    def test_fields_that_are_numbered_alike(self) -> None:
        """Two are enough, in the order of their numbers; one with a number is none."""
        bed = [field(n, label) for n, label in ((1, "Bed 10"), (2, "bed 2"), (3, "Row 1"), (4, "12"))]
        self.assertEqual(
            {key: [one.id for one in same] for key, (_, same) in numbered(bed).items()}, {1: [2, 1], 2: [2, 1]}
        )

    def test_a_list_that_nobody_can_join(self) -> None:
        self.assertEqual(found("list-unjoined"), ["No form puts anybody on the list Letter."])
        self.assertEqual(found("list-unjoined", facts=replace(FACTS, joined=frozenset((1,)))), [])

    def test_a_form_by_which_strangers_set_house_values(self) -> None:
        self.assertEqual(len(found("form-sets-house", facts=replace(FACTS, open_forms=((3, "Join us"),)))), 1)
        self.assertIn("form-sets-house", FINDINGS)
