"""A workspace with plots as records, and a form that adds them; for tests of forms whole."""

from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.filling.open_form import OpenForm
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    QuestionInput,
    SectionInput,
    add_question,
    add_section,
    change_question,
    change_section,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from tests.support.database import store
from tests.support.house import NOW, House, make_house


def public() -> PublicForms:
    return PublicForms(store(), lambda: NOW, "a secret of the tests")


class Garden:
    """A house whose form asks email (q1), zone (q2), swaps seed (q3), and plots: soil (q4) and size (q5)."""

    def __init__(self) -> None:
        self.house: House = make_house()
        self.scope = self.house.scope
        plots = RecordTypeInput(singular="Plot", plural="Plots", symbol="▦", description="", holder="Holder")
        self.type = create_record_type(self.scope, plots)
        group = read_catalogue(self.scope).groups_about(f"record:{self.type}")[0].id
        self.soil = create_field(self.scope, group, FieldInput(label="Soil", type_key="choice", options="Clay\nSand"))
        self.size = create_field(self.scope, group, FieldInput(label="Size", type_key="number", unit="m"))
        self.form = create_form(self.scope, "Join us")
        for key in ("zone", "swaps_seed"):
            self.do(add_question, self.house.field_id(key))
        self.do(add_section, "Plots")
        self.do(change_section, "s2", SectionInput(title="Plots", repeat=str(self.type), most=3, one="Plot"))
        for field in (self.soil, self.size):
            self.do(add_question, field, "s2")
        self.forms = public()

    def do(self, change, *rest, **options):  # type: ignore[no-untyped-def]
        """A change of the form at its present revision."""
        return change(self.scope, self.form, read_draft(self.scope, self.form).revision, *rest, **options)

    def question(self, question_id: str, **settings) -> int:  # type: ignore[no-untyped-def]
        return self.do(change_question, question_id, QuestionInput(**settings))  # type: ignore[no-any-return]

    def publish(self) -> int:
        return self.do(publish_form)  # type: ignore[no-any-return]

    def open(self, **options) -> OpenForm:  # type: ignore[no-untyped-def]
        return self.forms.open(self.house.slug, "join-us", **options)

    def send(
        self, token: str = "", challenge: tuple[str, str] = ("", ""), came_from: str = "", **answers: str
    ) -> OpenForm:
        """Send answers; `q4_1` stands for the first filling of question 4."""
        named = {name.replace("_", "."): answer for name, answer in answers.items()}
        token = token or self.open().token
        asked = frozenset(one.id for one in self.forms.answer(self.house.slug, "join-us", token, named).outcome.showing)
        return self.forms.send(
            self.house.slug, "join-us", token, named, asked, challenge=challenge, came_from=came_from
        )
