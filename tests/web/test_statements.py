"""What pages and sendings ask of the database: few statements, in one transaction each."""

import re
import unittest
from datetime import date
from decimal import Decimal

from sqlalchemy import Engine

from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.values.writing import change_person
from tests.support.house import House, make_house
from tests.support.site import Office, application, visitor
from tests.support.statements import Asked, asked_of

FIELD, SEGMENT, SENDING = 12, 8, 12


def engines() -> list[Engine]:
    site = application().state.site
    return [site.store.engine, site.public_forms.store.engine]


class Statements(unittest.TestCase):
    house: House

    @classmethod
    def setUpClass(cls) -> None:
        cls.house = make_house()
        cls.office = Office(cls.house)
        for number in range(40):
            cls.house.add(
                first_name="Ann", favourite="peas" if number % 2 else "beans", zone="hill", swaps_seed=number % 3 == 0,
                plot_length=Decimal(number if number < 39 else 9_000), born=date(1980, 1, number % 28 + 1),
            )  # fmt: skip
        cls.person = cls.house.add(first_name="Zoe")

    def asked(self, rest: str) -> Asked:
        """What a page asks that was looked at before, after the values of somebody have changed."""
        self.assertEqual(self.office.get(rest).status_code, 200)
        with self.house.scope.transaction("clerk") as unit:
            change_person(unit, self.person, {"last_name": rest[:20]}, "staff")
        with asked_of(*engines()) as asked:
            self.office.get(rest)
        return asked

    def test_a_field(self) -> None:
        for field in read_catalogue(self.house.scope).stored:
            asked = self.asked(f"define/fields/{field.id}")
            self.assertLessEqual(len(asked.statements), FIELD, "\n".join((field.key, *asked.statements)))
            self.assertEqual(asked.transactions, 1)

    def test_a_segment(self) -> None:
        scope = self.house.scope
        for name in ("First", "Second", "Third"):
            segment = create_segment(scope, name)
            condition = f'zone = "hill" and plot_length > {len(name)} and favourite is filled'
            change_segment(
                scope, segment, read_segment(scope, segment).revision, SegmentInput(name=name, expression=condition)
            )
        asked = self.asked(f"sift/{segment}")
        self.assertLessEqual(len(asked.statements), SEGMENT, "\n".join(asked.statements))
        self.assertEqual(asked.transactions, 1)

    def test_a_sending(self) -> None:
        scope = self.house.scope
        form = create_form(scope, "Join us")
        for key in ("first_name", "zone", "plot_length"):
            add_question(scope, form, read_draft(scope, form).revision, self.house.field_id(key))
        publish_form(scope, form, read_draft(scope, form).revision)
        client, address = visitor(), f"/join/{self.house.slug}/join-us"

        def send(email: str) -> Asked:
            opened = client.get(address).text
            found = re.search(r'name="token" value="([^"]+)"', opened)
            assert found
            answers = {"a_q1": email, "a_q2": "Ida", "a_q3": "hill", "a_q4": "12"}
            data = {"token": found[1], "asked": ["q1", "q2", "q3", "q4"], **answers}
            with asked_of(*engines()) as asked:
                self.assertIn("thanks", client.post(address, data=data).headers["location"])
            return asked

        send("once@hedgerow.example")
        asked = send("again@hedgerow.example")
        # The way in and the count of arrivals stand apart: the count must hold even where the sending is refused.
        begun = max(place for place, one in enumerate(asked.statements) if "INSERT INTO arrivals" in one)
        self.assertLessEqual(len(asked.statements[begun:]), SENDING, "\n".join(asked.statements))
        self.assertEqual(asked.transactions, 2)
        with asked_of(*engines()) as opened:
            client.get(address)
        self.assertLessEqual(len(opened.statements), 3, "\n".join(opened.statements))
        self.assertEqual(opened.transactions, 1)


if __name__ == "__main__":
    unittest.main()
