"""What was sent with a form: the list and its filters, one sending, a person's, the file."""

import csv
import io
import unittest
from datetime import date, timedelta
from decimal import Decimal

from finesieve.core.errors import NotFound
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import publish_form, read_draft
from finesieve.services.forms.sendings import (
    SentQuery,
    list_sendings,
    read_sending,
    sendings_as_csv,
    sendings_of_person,
)
from tests.services.test_collect import make_form, public
from tests.support.house import NOW, make_house


class Sendings(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.form = make_form(self.house, "zone", "swaps_seed")
        self.change(
            "q3", QuestionInput(label="Bring seed?", surcharges=({"label": "Table", "amount": "if(swaps_seed, 3, 0)"},))
        )
        self.publish()
        self.send(q1="ann@hedgerow.example", q2="hill", q3="yes")
        self.send(q1="=bea@hedgerow.example".lstrip("="), q2="north", q3="no")

    def change(self, question: str, asked: QuestionInput) -> None:
        change_question(self.scope, self.form, read_draft(self.scope, self.form).revision, question, asked)

    def publish(self) -> None:
        publish_form(self.scope, self.form, read_draft(self.scope, self.form).revision)

    def send(self, **answers: str) -> None:
        forms, slug = public(), self.house.slug
        sent = forms.send(slug, "join-us", forms.open(slug, "join-us").token, answers, frozenset((*answers, "q4")))
        self.assertTrue(sent.sent, sent.outcome.troubles)

    def found(self, **query: object) -> list[str]:
        lines = list_sendings(self.scope, self.form, SentQuery.model_validate(query)).lines
        return [line.summary for line in lines]

    def test_newest_first_with_what_was_answered_and_charged(self) -> None:
        bea, ann = list_sendings(self.scope, self.form, SentQuery()).lines
        self.assertIn("Zone: North", bea.summary)
        self.assertEqual((ann.total, bea.total, ann.said), (Decimal(3), Decimal(0), "stored"))
        detail = read_sending(self.scope, self.form, ann.id)
        self.assertIn(("Bring seed?", "yes"), [(one.label, one.answer) for one in detail.answers])
        self.assertEqual(
            [(one.label, one.amount, one.reason) for one in detail.charges], [("Table", Decimal(3), "Bring seed?: yes")]
        )
        self.assertEqual([one.form for one in sendings_of_person(self.scope, ann.person_id)], ["Join us"])

    def test_filtered(self) -> None:
        self.assertEqual(len(self.found(search="NORTH")), 1)
        self.assertEqual(len(self.found(search="ann hill")), 1)
        self.assertEqual(self.found(search="ann north"), [])
        today = NOW.date()
        self.assertEqual(len(self.found(since=today, until=today)), 2)
        self.assertEqual(self.found(until=today - timedelta(days=1)), [])
        self.assertEqual(len(self.found(until=date.max)), 2)
        self.publish_again()
        self.assertEqual((len(self.found(version=1)), len(self.found(version=2))), (2, 1))

    def publish_again(self) -> None:
        add_question(
            self.scope, self.form, read_draft(self.scope, self.form).revision, self.house.field_id("favourite")
        )
        self.publish()
        self.send(q1="cyd@hedgerow.example", q2="hill", q3="no", q4="kale")

    def test_what_had_to_be_decided_says_what_came_of_it(self) -> None:
        self.send(q1="ann@hedgerow.example", q2="south", q3="no")
        (held,) = list_sendings(self.scope, self.form, SentQuery(state="held")).lines
        self.assertEqual(held.said, "waits for a decision")
        (waiting,) = waiting_for(self.scope, held.person_id)
        decide(self.scope, waiting.id, apply=False)
        detail = read_sending(self.scope, self.form, held.id)
        self.assertEqual((detail.line.said, detail.decided_by), ("discarded", "Maud Ellery"))

    def test_the_file_has_every_question_of_every_version(self) -> None:
        self.publish_again()
        name, lines = sendings_as_csv(self.scope, self.form, SentQuery())
        rows = list(csv.DictReader(io.StringIO("".join(lines))))
        self.assertEqual((name, [row["favourite"] for row in rows]), ("join-us", ["kale", "", ""]))
        self.assertEqual([row["charged"] for row in rows], ["0", "0", "3"])

    def test_what_only_editors_see_is_no_answer_for_others(self) -> None:
        hidden = create_group(self.scope, GroupInput(name="Money", about="person", seen_by="editors"))
        debt = create_field(self.scope, hidden, FieldInput(label="Debt", type_key="number"))
        sending = list_sendings(self.scope, self.form, SentQuery()).lines[0]
        with self.scope.transaction("owner") as unit:
            from finesieve.store.tables import Submission

            row = unit.session.get(Submission, sending.id)
            assert row is not None
            row.answers = {**row.answers, "debt": "4141"}
            unit.session.add(row)
        for scope, sees in ((self.scope, True), (self.house.as_role("reader"), False)):
            detail = read_sending(scope, self.form, sending.id)
            self.assertEqual("Debt" in [one.label for one in detail.answers], sees)
            self.assertEqual(bool(list_sendings(scope, self.form, SentQuery(search="4141")).lines), sees)
        self.assertTrue(debt)

    def test_of_another_form_there_is_none(self) -> None:
        sending = list_sendings(self.scope, self.form, SentQuery()).lines[0]
        with self.assertRaises(NotFound):
            read_sending(self.scope, self.form + 1, sending.id)
