"""Levels that are chosen on a form: what rules see of them, who is asked what, and what waits for approval."""

import unittest

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotAllowed, NotFound
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.setup.schema import read_schema
from finesieve.core.setup.trial import FormTrial, TrialCase
from finesieve.services.define.approval import change_approval, read_approval
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, set_level_values, set_person_level
from finesieve.services.filling.decisions import all_waiting, decide, reopen, waiting_for
from finesieve.services.filling.open_form import OpenForm, Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.follow_up.outbox import LetterLine, read_outbox
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.forms.sowing import set_asked
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.profiles import read_profile
from finesieve.services.transfer.setups import export_setup, load_setup
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.shop import SECRET


class Levels(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope, self.slug = self.house.scope, self.house.slug
        self.ids = {
            name: create_membership(self.scope, "level", MembershipInput(name=name.capitalize()))
            for name in ("sprout", "sower", "steward")
        }
        group = create_group(self.scope, GroupInput(name="What it brings", about="level"))
        create_field(self.scope, group, FieldInput(label="Packets", key="packets", type_key="number"))
        for name, packets in (("sprout", "6"), ("sower", "20"), ("steward", "40")):
            set_level_values(self.scope, self.ids[name], {"packets": packets})
        self.form = create_form(self.scope, "Join us")
        for field in (LEVEL_QUESTION, self.house.field_id("first_name"), self.house.field_id("zone")):
            self.do(add_question, field)
        self.forms = PublicForms(store(), lambda: NOW, SECRET)

    def do(self, change, *rest, **options):  # type: ignore[no-untyped-def]
        return change(self.scope, self.form, read_draft(self.scope, self.form).revision, *rest, **options)

    def rule(self, question: str, **rules: str) -> None:
        self.do(change_question, question, QuestionInput(**rules))

    def open(self, me: str = "") -> OpenForm:
        self.do(publish_form) if not read_form(self.scope, self.form).published else None
        return self.forms.open(self.slug, "join-us", Visit(me=me))

    def shown(self, me: str = "", **answers: str) -> list[str]:
        opened = self.open(me)
        return [one.id for one in self.forms.answer(self.slug, "join-us", opened.token, answers).outcome.showing]

    def send(self, me: str = "", **answers: str) -> OpenForm:
        opened = self.open(me)
        given = {**opened.given, **answers}
        asked = frozenset(
            one.id for one in self.forms.answer(self.slug, "join-us", opened.token, given).outcome.showing
        )
        return self.forms.send(self.slug, "join-us", opened.token, given, asked)

    def level(self, person: int) -> str:
        return read_profile(self.scope, person).memberships.level

    def joined(self, email: str = "wren@hedgerow.example", **answers: str) -> int:
        self.assertTrue(self.send(q1=email, **answers).sent)
        with self.scope.reading("reader") as unit:
            from finesieve.store.reading.rows import find_by_email

            return find_by_email(unit.session, unit.definitions, email) or 0

    def letters(self) -> list[LetterLine]:
        return [one for one in read_outbox(self.scope).letters if one.recipient == "wren@hedgerow.example"]

    # What rules see

    def test_rules_tell_what_is_held_from_what_is_being_chosen(self) -> None:
        self.rule("q3", show_when='form.level = "steward"')
        self.rule("q4", show_when='level = "steward"')
        self.assertEqual(self.shown(q2="steward"), ["q1", "q2", "q3"])
        self.assertEqual(self.shown(q2="sower"), ["q1", "q2"])
        person = self.joined(q2="sower")
        self.assertEqual(self.level(person), "sower")
        set_person_level(self.scope, person, "steward")
        from finesieve.services.kernel.links import Links

        me = Links(SECRET).give("me", NOW, self.form, person)
        self.assertEqual(self.open(me).outcome.of("q2").raw, "steward")  # type: ignore[union-attr]
        self.assertEqual(self.shown(me, q2="sprout"), ["q1", "q2", "q4"])

    def test_rules_read_what_a_level_brings(self) -> None:
        self.rule("q3", show_when="form.level.packets > 10")
        self.rule("q4", show_when="level.packets > 10 or form.level is blank")
        self.assertEqual(self.shown(q2="sower"), ["q1", "q2", "q3"])
        self.assertEqual(self.shown(q2="sprout"), ["q1", "q2"])
        self.assertEqual(self.shown(), ["q1", "q2", "q4"])
        with self.assertRaises(InvalidExpression):
            self.rule("q3", show_when="form.level.pockets > 10")
        self.assertEqual(self.open().levels["sower"].lines, (("Packets", "20"),))

    def test_texts_read_what_is_being_chosen_and_what_is_held(self) -> None:
        """In titles, headings and labels; what is private to staff stays blank, and what cannot be read is refused."""
        group = read_catalogue(self.scope).groups_about("level")[0].id
        create_field(
            self.scope, group, FieldInput(label="Cost", key="cost", type_key="number", settings={"private": True})
        )
        set_level_values(self.scope, self.ids["sower"], {"cost": "9"})
        title = "{form.level.packets else 0} for you, {level.packets else 0} now, costs {form.level.cost}"
        self.do(change_form_texts, FormTexts(title=title, thanks="{form.level.packets} packets, {form.zone}."))
        self.rule("q4", label='{if(form.level = "steward", "Which zone?", "Where do you live?")}')
        with self.assertRaises(InvalidInput):
            self.do(change_form_texts, FormTexts(title="{form.level.pockets}"))
        person = self.house.add(email="wren@hedgerow.example")
        set_person_level(self.scope, person, "sprout")
        self.do(publish_form)
        opened = self.forms.open(self.slug, "join-us", Visit(person=person, until=2**40))
        for level, said in (("sower", "20 for you, 6 now, costs "), ("steward", "40 for you, 6 now, costs ")):
            seen = self.forms.answer(self.slug, "join-us", opened.token, {"q2": level}, person=person)
            self.assertEqual(seen.form.title, said)
        self.assertEqual(seen.outcome.of("q4").label, "Which zone?")  # type: ignore[union-attr]
        sent = self.send(q1="fern@hedgerow.example", q2="sower", q4="north")
        self.assertEqual(self.forms.thank(self.slug, "join-us", sent.receipt).text, "20 packets, North.")

    def test_who_is_asked_what_by_level(self) -> None:
        columns = ["sower", "steward"]
        self.do(set_asked, LEVEL_QUESTION, ["q3"], columns, "required")
        self.do(set_asked, LEVEL_QUESTION, ["q3"], ["sprout", ""], "not asked")
        question = read_form(self.scope, self.form).document.question("q3")
        assert question is not None
        self.assertEqual((question.show_when, question.required), ('form.level in ("sower", "steward")', True))
        self.assertEqual(self.shown(q2="sprout"), ["q1", "q2", "q4"])
        self.assertFalse(self.send(q1="wren@hedgerow.example", q2="steward").sent)

    def test_a_role_that_is_asked_is_being_chosen(self) -> None:
        use_part(self.scope, "work")
        role = read_catalogue(self.scope).by_key["role"].id
        self.do(add_question, role)
        self.rule("q3", show_when='form.role = "school"')
        self.rule("q4", show_when='role = "school"')
        self.assertEqual(self.shown(q5="school"), ["q1", "q2", "q3", "q5"])

    def test_it_goes_by_file(self) -> None:
        self.rule("q3", show_when='form.level = "steward"')
        text = export_setup(self.scope)[1]
        other = make_house()
        load_setup(other.scope, text)
        with other.scope.reading("reader") as unit:
            from finesieve.services.usage.documents import documents_of_forms

            (form,) = [one.document for one in documents_of_forms(unit) if one.title == "Join us"]
        self.assertEqual([one.field_id == LEVEL_QUESTION for one in form.questions][:2], [False, True])

    def test_by_files_alone_it_is_the_same(self) -> None:
        self.rule("q3", show_when='form.level = "steward" and level = "sprout" and form.level.packets > level.packets')
        self.do(publish_form)
        trial = FormTrial(read_schema(export_setup(self.scope, values=True)[1]), "join-us")

        def shows(**case: object) -> bool:
            return "first_name" in trial.outcome(TrialCase.model_validate(case), NOW).shows

        steward = {"answers": {"level": "steward"}}
        brings = {"sprout": {"packets": 6}, "steward": {"packets": 40}}
        self.assertTrue(shows(**steward, level="sprout", person={}, levels=brings))
        for other in (
            {"answers": {"level": "sower"}, "level": "sprout", "person": {}, "levels": brings},
            {**steward, "level": "sower", "person": {}, "levels": brings},
            {**steward, "levels": brings},
            {**steward, "level": "sprout", "person": {}, "levels": {**brings, "steward": {"packets": 1}}},
        ):
            self.assertFalse(shows(**other), other)
        with self.assertRaises(InvalidInput):
            shows(levels={"queen": {"packets": 1}})
        given = {"answers": {"email": "wren@hedgerow.example", "level": "sprout"}}
        result = trial.outcome(TrialCase.model_validate(given), NOW)
        self.assertEqual((result.taken, result.stores.person["level"]), (True, "sprout"))
        self.assertEqual(result.options["level"], ("sprout", "sower", "steward"))

    # What waits

    def waits(self) -> None:
        change_approval(
            self.scope, 'form.level = "steward"', {"approved": "Welcome, {first_name}."}, "maud@house.example"
        )

    def test_it_waits_and_is_approved_taken_back_and_declined(self) -> None:
        self.waits()
        sprout = self.joined("fern@hedgerow.example", q2="sprout")
        self.assertEqual((self.level(sprout), all_waiting(self.scope)), ("sprout", ()))
        person = self.joined(q2="steward", q3="Wren")
        self.assertEqual((self.level(person), read_profile(self.scope, person).name), ("", "Wren"))
        ((who, name, one),) = all_waiting(self.scope)
        self.assertEqual(
            (who, name, [(line.stored, line.answer) for line in one.wanted.lines]), (person, "Wren", [("", "Steward")])
        )
        self.assertIn("We will look at it", self.letters()[0].body)
        (staff,) = [line for line in read_outbox(self.scope).letters if line.recipient == "maud@house.example"]
        self.assertEqual((staff.subject, staff.body), ("Wren waits for approval", "Level: Steward"))
        decide(self.scope, one.id, apply=True)
        decide(self.scope, one.id, apply=True)
        self.assertEqual(self.level(person), "steward")
        self.assertEqual([letter.body for letter in self.letters()].count("Welcome, Wren."), 1)
        reopen(self.scope, one.id)
        self.assertEqual((self.level(person), len(all_waiting(self.scope))), ("", 1))
        decide(self.scope, one.id, apply=False)
        self.assertEqual((self.level(person), "cannot say yes" in self.letters()[0].body), ("", True))
        reopen(self.scope, one.id)
        decide(self.scope, one.id, apply=True)
        set_person_level(self.scope, person, "sower")
        self.assertRaises(Conflict, lambda: reopen(self.scope, one.id))
        self.assertEqual(self.level(person), "sower")

    def test_the_page_after_says_that_it_waits(self) -> None:
        self.waits()
        sent = self.send(q1="wren@hedgerow.example", q2="steward")
        self.assertIn("We will look at it", self.forms.thank(self.slug, "join-us", sent.receipt).text)
        other = self.send(q1="fern@hedgerow.example", q2="sower")
        self.assertNotIn("We will look at it", self.forms.thank(self.slug, "join-us", other.receipt).text)

    def test_more_is_asked_for_and_a_second_wish_replaces_the_first(self) -> None:
        self.waits()
        person = self.joined(q2="steward")
        (one,) = waiting_for(self.scope, person)
        for text in ("", "{nonsense}", "x" * 2_001):
            with self.assertRaises(InvalidInput):
                self.forms.ask_more(self.scope, one.id, text)
        for _ in range(2):
            self.forms.ask_more(self.scope, one.id, "Which plot do you have?", "pressed twice")
        self.assertEqual([letter.body for letter in self.letters()].count("Which plot do you have?"), 1)
        letter = self.letters()[0]
        self.assertIn("Which plot do you have?", letter.body)
        me = letter.link.partition("me=")[2]
        self.assertTrue(self.send(me, q2="steward", q4="north").sent)
        (again,) = waiting_for(self.scope, person)
        self.assertNotEqual(again.id, one.id)
        self.assertNotIn("cannot say yes", " ".join(letter.body for letter in self.letters()))
        self.assertRaises(NotFound, lambda: self.forms.ask_more(self.scope, one.id, "Again?"))
        reader = self.house.as_role("reader")
        for refused in (lambda: reopen(reader, one.id), lambda: self.forms.ask_more(reader, again.id, "More?")):
            self.assertRaises(NotAllowed, refused)

    def test_what_is_confirmed_by_mail_waits_as_well(self) -> None:
        self.waits()
        person = self.joined(q2="sprout")
        self.send(q1="wren@hedgerow.example", q2="steward")
        (held,) = waiting_for(self.scope, person)
        decide(self.scope, held.id, apply=True)
        self.assertEqual(
            (self.level(person), [one.kind.key for one in waiting_for(self.scope, person)]), ("sprout", ["approval"])
        )

    def test_the_rule_is_checked_and_undone(self) -> None:
        for rule in ("form.level", 'form.zone = "north"', "nonsense = 1"):
            with self.subTest(rule), self.assertRaises(InvalidExpression):
                change_approval(self.scope, rule, {}, "")
        for texts, tell in (({"approved": "{nonsense}"}, ""), ({}, "maud")):
            with self.assertRaises(InvalidInput):
                change_approval(self.scope, "", texts, tell)
        change = change_approval(self.scope, 'zone = "north" and form.level is filled', {}, "")
        change_approval(self.scope, "", {}, "")
        self.assertRaises(NotAllowed, lambda: change_approval(self.house.as_role("clerk"), "", {}, ""))
        self.assertRaises(Conflict, lambda: undo_change(self.scope, change))
        self.assertEqual(read_approval(self.scope).waits_when, "")


if __name__ == "__main__":
    unittest.main()
