"""Orders as a collection in expressions: Python and SQL say the same."""

import random
import unittest
from collections.abc import Mapping, Sequence
from decimal import Decimal

from sqlmodel import select

from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.values import Value
from finesieve.services.commerce.orders import list_orders, move_order, read_order, set_order_values
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.compute.keeping import keep_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.people.profiles import read_profile
from finesieve.services.values.writing import row_of
from finesieve.store.language.kept_fields import kept_table
from finesieve.store.reading.people import values_by_ids
from finesieve.store.reading.rows import ids_after, stored_row
from finesieve.store.tables import KeptField, OrderRow
from tests.support.house import make_house
from tests.support.shop import Trade
from tests.support.work import done

PACKETS, KIT = ("packet", "", 3), ("kit", "small", 1)
FORMULAS = {
    "how_many": "count(orders)",
    "large": "count(orders where total > 40)",
    "turnover": "sum(orders.total)",
    "usual": "average(orders.total)",
    "last_plaque": "latest(orders.plaque by placed_at)",
    "first_number": "first(orders.number)",
    "packed": 'any(orders where state = "packed")',
    "engraved": "sum(orders.letters where number > 1)",
    "this_year": "count(orders where year(placed_at) > 2000)",
    "some_plaque": "count_filled(orders.plaque)",
    "loyal": 'if(sum(orders.total where state in ("placed", "packed", "sent")) > 80, "yes", "no")',
}


class Orders(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope = self.trade.house.scope
        catalogue = read_catalogue(self.scope)
        on_order, on_person = catalogue.groups_about(ORDER)[0].id, catalogue.groups_about(PERSON)[0].id
        self.derive(on_order, "letters", "length(plaque) + number")
        for key, formula in FORMULAS.items():
            self.derive(on_person, key, formula)

    def derive(self, group: int, key: str, formula: str) -> None:
        create_derived(self.scope, DerivedInput(label=key, key=key, formula=formula, group_id=group))

    def both(self, person: int) -> tuple[Mapping[str, Value], Mapping[str, Value]]:
        """The derived values of a person as worked out in Python, and in SQL."""
        with self.scope.reading("reader") as unit:
            stored = stored_row(unit.session, unit.definitions, PERSON, person) or {}
            row = row_of(unit, PERSON, person, stored)
            there = values_by_ids(unit.session, unit.definitions, unit.moment, PERSON, list(FORMULAS), [person])
            return {key: row[key] for key in FORMULAS}, there[person]

    def kept(self, keys: Sequence[str]) -> dict[int, dict[str, Value]]:
        """What is kept of everybody, by person and key; all of it ready."""
        by_key, found = read_catalogue(self.scope).by_key, {}
        with self.scope.separate("owner") as unit:
            for key in keys:
                row = unit.session.get_one(KeptField, by_key[key].id)
                self.assertEqual(row.state, "ready", key)
                table = kept_table(unit.definitions, row.field_id, row.generation)
                for person, value in unit.session.execute(select(table.c.id, table.c.value)):
                    found.setdefault(person, {})[key] = value
        return found

    def test_python_and_sql_say_the_same_of_any_orders(self) -> None:
        """And so does what is kept, which follows each order, its payment, its state, its person and its fields."""
        keep = ("how_many", "turnover", "packed", "loyal", "last_plaque", "engraved")
        for key in keep:
            field = read_catalogue(self.scope).by_key[key].id
            self.assertEqual(done(self.trade.house, keep_field(self.scope, field)).state, "done")
        chance = random.Random(7)
        for number in range(8):
            plaque = chance.choice(("", "Kestrel", "Moss"))
            lines = chance.sample((PACKETS, KIT, ("card", "", 2)), chance.randint(1, 3))
            link = self.trade.order(*lines, q1=f"wren{number % 2}@hedgerow.example", q3=plaque)
            if chance.random() < 0.8:
                self.trade.shop().pay(self.trade.house.slug, link, accepted=True)
        with self.scope.transaction("owner") as unit:
            people = ids_after(unit.session, unit.definitions, PERSON, 0, 10)
            for row in unit.session.exec(select(OrderRow)).all():
                row.person_id = people[row.number % len(people)]
                unit.session.add(row)
        for line in list_orders(self.scope).lines:
            if line.state == "placed" and line.number % 3:
                move_order(self.scope, line.id, "packed" if line.number % 2 else "cancelled")
        for person in people:
            here, there = self.both(person)
            with self.subTest(person=person):
                self.assertEqual(here, there)
                self.assertIsNotNone(here["turnover"])
        self.assertNotEqual([self.both(one)[0]["how_many"] for one in people], [0, 0])
        order = next(line for line in list_orders(self.scope).lines if line.state == "packed")
        set_order_values(self.scope, order.id, {"plaque": "Heron"})
        with self.scope.transaction("owner") as unit:
            row = unit.session.get_one(OrderRow, order.id)
            was, row.person_id = row.person_id, people[(people.index(row.person_id) + 1) % len(people)]
            unit.session.add(row)
        kept = self.kept(keep)
        for person in people:
            here = self.both(person)[0]
            self.assertEqual(kept[person], {key: here[key] for key in keep}, person == was)
        self.assertIn("Heron", [values["last_plaque"] for values in kept.values()])

    def test_only_what_is_placed_counts(self) -> None:
        link = self.trade.order(PACKETS, KIT, q3="Kestrel")
        (line,) = list_orders(self.scope).lines
        self.assertEqual(self.both(line.person_id)[0]["how_many"], 0)
        self.trade.shop().pay(self.trade.house.slug, link, accepted=True)
        here, there = self.both(line.person_id)
        self.assertEqual((here["turnover"], there["turnover"]), (Decimal("50.87"), Decimal("50.87")))
        self.assertEqual((here["last_plaque"], there["first_number"]), ("Kestrel", 1))
        set_order_values(self.scope, line.id, {"plaque": "Moss"})
        self.assertEqual([one["last_plaque"] for one in self.both(line.person_id)], ["Moss", "Moss"])
        move_order(self.scope, line.id, "cancelled")
        self.assertEqual([one["how_many"] for one in self.both(line.person_id)], [0, 0])
        said = [
            (one.key, one.old, one.new)
            for one in reversed(read_profile(self.scope, line.person_id).history)
            if one.source == "computed" and one.key in ("how_many", "last_plaque")
        ]
        self.assertEqual(
            said[-5:],
            [
                ("how_many", "0", "1"), ("last_plaque", "", "Kestrel"), ("last_plaque", "Kestrel", "Moss"),
                ("how_many", "1", "0"), ("last_plaque", "Moss", ""),
            ],
        )  # fmt: skip

    def test_what_follows_on_the_order_itself_stands_in_its_history(self) -> None:
        self.derive(read_catalogue(self.scope).groups_about(ORDER)[0].id, "open", 'if(state = "sent", "no", "yes")')
        self.trade.order(PACKETS)
        (line,) = list_orders(self.scope).lines
        for state in ("placed", "packed", "sent"):
            move_order(self.scope, line.id, state)
        said = [(one.old, one.new) for one in read_order(self.scope, line.id).history if one.key == "open"]
        self.assertEqual(said, [("yes", "no"), ("", "yes")])


if __name__ == "__main__":
    unittest.main()
