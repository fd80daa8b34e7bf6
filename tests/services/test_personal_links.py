"""Personal links: given out as hashes, good for a time, once or often, taken back; they open a form and never sign in."""

import re
import unittest
from dataclasses import replace
from datetime import timedelta

from sqlmodel import select

from finesieve.core.errors import InvalidInput, LinkEnded, NotAllowed, NotFound, Overtaken
from finesieve.services.define.approval import change_approval
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.define.named_checks import create_check
from finesieve.services.filling.approval import APPROVAL, as_asked
from finesieve.services.filling.decisions import ask_for, decide
from finesieve.services.filling.open_form import OpenForm, Visit
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.follow_up.personal_links import (
    PersonalLinkInput,
    change_personal_link,
    create_personal_link,
    list_personal_links,
    remove_personal_link,
    revoke_all,
)
from finesieve.services.kernel.changes import undo_change
from finesieve.services.pages.editing import create_page, publish_page, read_page_as, read_page_view, save_page
from finesieve.services.people.personal_links import give_link, links_of_person, revoke_link, sweep_links
from finesieve.services.people.profiles import read_profile
from finesieve.services.transfer.setups import export_setup, load_setup
from finesieve.store.tables import IssuedLink
from tests.support.gardens import Garden
from tests.support.house import NOW


class Given(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        self.garden.publish()
        self.scope, self.house = self.garden.scope, self.garden.house
        self.person = self.house.add(email="wren@x.example", zone="hill")
        self.kind = create_personal_link(self.scope, self.asked())

    def asked(self, **how: object) -> PersonalLinkInput:
        return PersonalLinkInput.model_validate({"name": "My answers", "form": self.garden.form, **how})

    def give(self, **how: object) -> str:
        if how:
            change_personal_link(self.scope, self.kind, self.asked(**how))
        return give_link(self.scope, self.person, "my_answers").partition("me=")[2]

    def open(self, me: str) -> OpenForm:
        return self.garden.open(visit=Visit(me=me))

    def send(self, opened: OpenForm, **answers: str) -> bool:
        return self.garden.send(opened.token, **answers).sent

    def zone(self) -> str:
        lines = [line for _, found in read_profile(self.scope, self.person).groups for line in found]
        return next(line.shown for line in lines if line.field.key == "zone")

    def issued(self) -> list[IssuedLink]:
        with self.scope.reading("reader") as unit:
            return list(unit.session.exec(select(IssuedLink)).all())

    def test_it_opens_the_form_as_its_reader_with_what_is_known(self) -> None:
        me = self.give()
        opened = self.open(me)
        self.assertEqual((opened.person_id, opened.known), (self.person, True))
        self.assertEqual(opened.outcome.of("q2").raw, "hill")  # type: ignore[union-attr]
        self.assertTrue(self.send(opened, q1="wren@x.example", q2="south"))
        self.assertEqual(self.zone(), "South")
        self.assertTrue(self.send(self.open(me), q1="wren@x.example", q2="north"))
        (line,) = list_personal_links(self.scope)
        self.assertEqual((line.sent, line.used, line.open), (1, 2, 1))

    def test_only_a_hash_of_128_bits_is_kept(self) -> None:
        me = self.give()
        self.assertEqual(len(me.removeprefix("p.")), 22)
        (row,) = self.issued()
        self.assertNotIn(me.removeprefix("p."), str(row.model_dump()))
        self.assertNotEqual(me, self.give())

    def test_asked_is_only_what_is_missing(self) -> None:
        opened = self.open(self.give(only_missing=True))
        asked = [one.id for one in opened.outcome.showing]
        self.assertEqual(asked, ["q3"])
        self.assertTrue(self.send(opened, q3="yes"))
        self.assertEqual(self.zone(), "Hill")

    def test_once_is_once_but_sent_twice_counts_once(self) -> None:
        me = self.give(once=True)
        first, second = self.open(me), self.open(me)
        for _ in range(2):
            self.assertTrue(self.send(first, q1="wren@x.example", q2="south"))
        self.assertEqual([row.used for row in self.issued()], [1])
        self.garden.send(second.token, q1="thief@x.example", q2="north")
        self.assertEqual(self.zone(), "South")
        with self.assertRaises(LinkEnded):
            self.open(me)

    def test_what_does_not_work_any_more_is_one_and_the_same(self) -> None:
        good, other = self.give(), Garden()
        other.publish()
        stale, gone = self.give(), self.give()
        with self.scope.transaction("owner") as unit:
            row = unit.session.get(IssuedLink, self.issued()[1].id)
            assert row is not None
            row.ends_at = NOW - timedelta(seconds=1)
        revoke_link(self.scope, self.person, self.issued()[2].id or 0)
        said = set()
        for me in (stale, gone, good[:-1] + ("A" if good[-1] != "A" else "B"), "p.", "p." + "x" * 300, "nonsense"):
            with self.assertRaises(LinkEnded, msg=me) as ended:
                self.open(me)
            said.add(str(ended.exception))
        with self.assertRaises(LinkEnded) as ended:
            other.open(visit=Visit(me=good))
        self.assertEqual(said, {str(ended.exception)})
        self.assertTrue(self.open(good).known)

    def test_taken_back_while_the_form_is_open(self) -> None:
        """It knows nobody any more; what was typed is kept, and changes nothing that is stored."""
        opened = self.open(self.give())
        self.assertEqual(revoke_all(self.scope, self.kind), 1)
        again = self.garden.forms.answer(self.house.slug, "join-us", opened.token, {"q2": "south"})
        self.assertEqual((again.known, again.outcome.of("q2").raw), (False, "south"))  # type: ignore[union-attr]
        self.send(opened, q1="wren@x.example", q2="south")
        self.assertEqual(self.zone(), "Hill")

    def test_what_ran_out_a_year_ago_is_forgotten(self) -> None:
        self.give()
        self.give(days=3)
        for days, left in ((300, 2), (369, 1)):
            sweep_links(replace(self.scope, clock=lambda days=days: NOW + timedelta(days=days)))
            self.assertEqual(len(self.issued()), left)

    def test_it_opens_no_other_form(self) -> None:
        me = self.give()
        other = Garden()
        other.publish()
        with self.scope.transaction("owner") as unit:
            for row in unit.session.exec(select(IssuedLink)).all():
                row.form_id = self.garden.form + 1
        with self.assertRaises(LinkEnded):
            self.open(me)

    # In texts

    def letter(self, text: str) -> str:
        create_membership(self.scope, "level", MembershipInput(name="Sower"))
        change_approval(self.scope, "", {"approved": text}, "")
        with self.scope.transaction("owner") as unit:
            asked = as_asked({"level": "sower"}, "en")
            waiting = ask_for(unit, APPROVAL, self.person, self.garden.form, asked=asked).id or 0
        decide(self.scope, waiting, apply=True)
        return read_outbox(self.scope).letters[0].body

    def test_a_message_holds_a_link_of_its_reader(self) -> None:
        body = self.letter("See {link.my_answers}, that is {link.my_answers}.")
        found = re.findall(r"/join/[\w-]+/join-us\?me=([\w.-]+[\w])", body)
        self.assertEqual((len(found), len(set(found)), len(self.issued())), (2, 1, 1))
        self.assertEqual(self.open(found[0]).person_id, self.person)
        hidden = read_outbox(self.house.as_role("reader")).letters[0].body
        self.assertNotIn(found[0], hidden)

    def test_it_stands_in_messages_and_pages_only(self) -> None:
        for wrong in ("{link.my_answer}", "{link.}"):
            with self.assertRaises(InvalidInput):
                change_approval(self.scope, "", {"approved": wrong}, "")
        with self.assertRaises(InvalidInput):
            create_check(self.scope, "Odd", {"kind": "length", "high": "5", "message": "{link.my_answers}"})
        page = create_page(self.scope, "Your year")
        save_page(
            self.scope, page, read_page_view(self.scope, page).revision,
            {"title": "Your year", "blocks": [{"text": "{first_name}", "button": "Change it", "to": "{link.my_answers}"}]},
        )  # fmt: skip
        publish_page(self.scope, page)
        (block,) = read_page_as(self.scope, page, person_id=self.person).blocks
        self.assertEqual(block.to, f"/account/{self.house.slug}/link/my_answers")
        self.assertEqual([use.name for use in list_personal_links(self.scope)[0].uses], ["Your year"])
        with self.assertRaises(InvalidInput):
            remove_personal_link(self.scope, self.kind)

    # As staff see them

    def test_staff_see_and_take_back_what_somebody_was_given(self) -> None:
        self.give()
        (link,) = links_of_person(self.scope, self.person)
        self.assertEqual((link.name, link.form, link.good, link.used), ("My answers", "Join us", True, 0))
        revoke_link(self.scope, self.person, link.id)
        self.assertEqual([one.revoked for one in links_of_person(self.scope, self.person)], [True])
        stranger = self.house.add(email="fern@x.example")
        with self.assertRaises(NotFound):
            revoke_link(self.scope, stranger, link.id)
        reader = self.house.as_role("reader")
        for act in (lambda: give_link(reader, self.person, "my_answers"), lambda: revoke_all(reader, self.kind)):
            with self.assertRaises(NotAllowed):
                act()

    def test_kinds_are_changed_undone_refused_and_removed(self) -> None:
        change = change_personal_link(self.scope, self.kind, self.asked(days=3))
        undo_change(self.scope, change)
        self.assertEqual(list_personal_links(self.scope)[0].asked.days, 30)
        with self.assertRaises(Overtaken):
            change_personal_link(self.scope, self.kind, self.asked(days=4), self.asked(days=9))
        for wrong in ({"form": 0}, {"name": "my ANSWERS"}):
            with self.assertRaises(InvalidInput):
                create_personal_link(self.scope, self.asked(**{"name": "Other", **wrong}))
        me = self.give()
        remove_personal_link(self.scope, self.kind)
        with self.assertRaises(LinkEnded):
            self.open(me)

    def test_kinds_go_by_file(self) -> None:
        change_personal_link(self.scope, self.kind, self.asked(days=9, once=True, only_missing=True))
        text, other = export_setup(self.scope)[1], Garden()
        load_setup(other.scope, text)
        (line,) = list_personal_links(other.scope)
        self.assertEqual((line.key, line.asked.days, line.asked.once, line.form), ("my_answers", 9, True, "Join us"))
