"""Records in conversations against the database: changed, added, waiting; of nobody else."""

import unittest
from typing import Any

from finesieve.core.fields.about import record_about
from finesieve.core.setup.schema import read_schema
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.people.records import add_record, link_record, person_records, read_record
from finesieve.services.transfer.setups import export_setup
from finesieve.services.usage.uses import uses_of
from tests.support.chats import TOKEN, Chats
from tests.support.talking import about, ask, say


class Records(Chats):
    def setUp(self) -> None:
        super().setUp()
        self.plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots", symbol="▦"))
        about_plot = record_about(self.plots)
        group = next(one for one in read_catalogue(self.scope).all_groups if one.about == about_plot)
        size = FieldInput(label="Size", key="size", type_key="number", unit="m²")
        self.size = create_field(self.scope, group.id, size)
        catalogue = read_catalogue(self.scope)
        self.link = catalogue.record_types_by_id[self.plots].links[0].id
        self.title = next(one.key for one in catalogue.stored_about(about_plot) if one.key != "size")

    def steps(self, which: str, **more: Any) -> list[dict[str, Any]]:
        return [
            ask(9, "email", known="skip"), about(1, which, **more), ask(3, f"plots.{self.title}", under="c1", known="skip"),
            ask(2, "plots.size", under="c1"), {"kind": "sum_up", "id": "l5"}, say(6, "{sum(plots.size)} in all."),
        ]  # fmt: skip

    def plot(self, person: int, title: str, size: str) -> int:
        return add_record(self.scope, self.plots, {self.title: title, "size": size}, {self.link: [person]})

    def of(self, person: int) -> list[tuple[str, ...]]:
        ((_, page),) = person_records(self.scope, person)
        return sorted((one.title, *one.cells) for one in page.lines)

    def test_one_that_they_choose(self) -> None:
        person = self.house.add(email="wren@hedgerow.example")
        hill, _ = self.plot(person, "Hill", "12"), self.plot(person, "Brook", "30")
        self.make(self.steps("one"))
        for reply in ("hill", "14", "that is right"):
            opened = self.say(reply, person=person)
        self.assertEqual(self.said(opened), ["44 in all."])
        self.assertEqual(self.of(person), [("Brook", "30 m²"), ("Hill", "14 m²")])
        self.assertEqual(read_record(self.scope, self.plots, hill).history[0].source, "chat: Plan a bed")

    def test_new_ones_once(self) -> None:
        person = self.house.add(email="wren@hedgerow.example")
        self.make(self.steps("new", another=True))
        for reply in ("Hill", "14", "yes", "Brook", "5", "no"):
            self.say(reply, person=person)
        self.say("that is right", person=person, key="once")
        self.say("that is right", person=person, key="once")
        self.assertEqual(self.of(person), [("Brook", "5 m²"), ("Hill", "14 m²")])

    def test_corrected_after_it_was_written(self) -> None:
        person = self.house.add(email="wren@hedgerow.example")
        steps = self.steps("new")
        self.make([*steps, {"kind": "sum_up", "id": "l7", "text": "Still right?"}])
        for reply in ("Hill", "14", "that is right"):
            self.say(reply, person=person)
        self.say("Change Hill: Size", person=person)
        for reply in ("15", "that is right"):
            self.say(reply, person=person)
        self.assertEqual(self.of(person), [("Hill", "15 m²")])

    def test_somebody_new_and_a_known_email(self) -> None:
        self.make(self.steps("new"))
        for reply in ("finch@hedgerow.example", "Hill", "14", "that is right"):
            self.say(reply)
        self.assertEqual(self.of(self.scope_person("finch@hedgerow.example")), [("Hill", "14 m²")])
        known = self.house.add(email="wren@hedgerow.example")
        for reply in ("wren@hedgerow.example", "Brook", "5", "that is right"):
            self.say(reply, token=TOKEN + "-2")
        self.assertEqual(self.of(known), [])
        (waiting,) = waiting_for(self.scope, known)
        self.assertEqual([words for _, words in waiting.wanted.records], ["Name: Brook, Size: 5 m²"])
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(self.of(known), [("Brook", "5 m²")])

    def test_what_is_not_theirs_any_more_stays(self) -> None:
        person, other = (self.house.add(email=f"{name}@hedgerow.example") for name in ("wren", "finch"))
        hill = self.plot(person, "Hill", "12")
        self.make(self.steps("one"))
        self.say("13", person=person)
        link_record(self.scope, self.plots, hill, self.link, other)
        self.say("that is right", person=person)
        self.assertEqual(self.of(other), [("Hill", "12 m²")])

    def test_used_named_and_taken_out(self) -> None:
        self.make(self.steps("each"))
        with self.scope.reading("reader") as unit:
            self.assertEqual(
                [one.kind for one in uses_of(unit).of_field(self.size)], ["script"] * 2
            )  # it is asked, and a text says it
        (part,) = read_schema(export_setup(self.scope)[1]).scripts
        kept = {step["id"]: step for step in part.document["steps"]}
        self.assertEqual((kept["l1"]["records"], kept["l2"]["field"]), ("plots", "plots.size"))


if __name__ == "__main__":
    unittest.main()
