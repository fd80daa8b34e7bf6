"""Two specialists save the same thing: the second is told by whom, shown both, and can put theirs in place knowingly."""

import re
import unittest

from finesieve.services.collect import create_form, read_form
from finesieve.services.compose import FormTexts, QuestionInput, change_form_texts, change_question
from finesieve.services.compute import DerivedInput, change_derived, create_derived, read_derived
from finesieve.services.define import read_catalogue
from finesieve.services.fields import FieldInput, change_field
from finesieve.services.sift import SegmentInput, change_segment, create_segment, read_segment
from tests.support.house import make_house
from tests.support.site import Office


class TwoAtOnce(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.office = Office(self.house)
        self.colleague = self.house.as_role("editor", "Corin Yeo")

    def seen(self, page: str, name: str) -> str:
        found = re.search(rf'name="{name}" value="(\d+)"', self.office.get(page).text)
        assert found
        return found[1]

    def overtaken(self, page: str, post: str, mark: str, data: dict[str, str], theirs: str, mine: str, change) -> None:  # type: ignore[no-untyped-def]
        """Look, let the colleague change it, save: refused with both; saved again from that page, it counts."""
        before = self.seen(page, mark)
        change()
        answer = self.office.post(post, {mark: before, **data})
        self.assertEqual(answer.status_code, 409)
        for words in ("Corin Yeo has changed this meanwhile", theirs, mine):
            self.assertIn(words, answer.text)
        again = re.search(rf'name="{mark}" value="(\d+)"', answer.text)
        assert again
        self.assertIn(self.office.post(post, {mark: again[1], **data}).status_code, (200, 303))

    def test_a_field(self) -> None:
        field = self.house.field_id("favourite")
        page = f"define/fields/{field}"
        self.overtaken(
            page,
            page,
            "seen",
            {"label": "Best variety"},
            "Dearest variety",
            "Best variety",
            lambda: change_field(self.colleague, field, FieldInput(label="Dearest variety")),
        )
        self.assertEqual(read_catalogue(self.house.scope).by_id[field].label, "Best variety")

    def test_a_formula(self) -> None:
        field = create_derived(self.house.scope, DerivedInput(label="Area", formula="plot_length * plot_width"))
        page = f"compute/{field}"
        theirs = DerivedInput(label="Area", formula="plot_length * 7")
        data = {"label": "Area", "help": "", "unit": "", "formula": "plot_length * 8"}
        self.overtaken(
            page,
            page,
            "seen",
            data,
            "plot_length * 7",
            "plot_length * 8",
            lambda: change_derived(self.colleague, field, theirs),
        )
        self.assertEqual(read_derived(self.house.scope, field).field.formula, "plot_length * 8")

    def test_a_segment(self) -> None:
        segment = create_segment(self.house.scope, "North")
        theirs = SegmentInput(name="North", expression="plot_length &gt; 3".replace("&gt;", ">"))
        data = {"name": "North", "description": "", "expression": 'zone = "north"'}
        revision = read_segment(self.house.scope, segment).revision
        self.overtaken(
            f"sift/{segment}?as=text",
            f"sift/{segment}?as=text",
            "revision",
            data,
            "plot_length &gt; 3",
            "zone = &#34;north&#34;",
            lambda: change_segment(self.colleague, segment, revision, theirs),
        )
        self.assertEqual(read_segment(self.house.scope, segment).expression, 'zone = "north"')

    def test_a_form(self) -> None:
        form = create_form(self.house.scope, "Join us")
        revision = read_form(self.house.scope, form).revision
        theirs = FormTexts(title="Join them")
        data = {"title": "Join you", "intro": "", "send_label": "Send", "thanks": ""}
        self.overtaken(
            f"collect/{form}?texts=1",
            f"collect/{form}/texts",
            "revision",
            data,
            "Join them",
            "Join you",
            lambda: change_form_texts(self.colleague, form, revision, theirs),
        )
        self.assertEqual(read_form(self.house.scope, form).document.title, "Join you")

    def test_a_question(self) -> None:
        form = create_form(self.house.scope, "Join us")
        revision = read_form(self.house.scope, form).revision
        theirs = QuestionInput(label="Write to")
        data = {
            "label": "Your email",
            "show_when_clauses": "0",
            "required_when_clauses": "0",
            "checks": "0",
            "charges": "0",
            "flag": "prefill",
        }
        self.overtaken(
            f"collect/{form}?q=q1",
            f"collect/{form}/parts/q1",
            "revision",
            data,
            "Write to",
            "Your email",
            lambda: change_question(self.colleague, form, revision, "q1", theirs),
        )
        self.assertEqual(read_form(self.house.scope, form).document.questions[0].label, "Your email")
