"""A small catalogue and forms over it, for tests of forms."""

from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.forms.definition import Form, Question, Section
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.outcome import Outcome
from finesieve.core.forms.rows import Situation
from finesieve.core.model.catalogue import Catalogue, Group, LibraryCheck, Link, NamedList, RecordType, build_catalogue
from finesieve.core.model.checks import PatternCheck
from tests.support.fields import MOMENT

ZONES = (Option("North", "north"), Option("Hill", "hill"), Option("South", "south"))
CROPS = (Option("Beans", "beans"), Option("Kale", "kale"), Option("Leek", "leek"))
PLOT = "record:5"
FIELDS = (
    Field(1, "email", "Email", "email", 1, required=True),
    Field(2, "zone", "Zone", "choice", 1, options=ZONES),
    Field(3, "area", "Area", "number", 1, unit="m²"),
    Field(4, "code", "Code", "short_text", 1),
    Field(5, "member", "Member", "yes_no", 1),
    Field(6, "born", "Born", "date", 1),
    Field(7, "crops", "Crops", "choices", 1, options=CROPS),
    Field(8, "secret", "Password", "secret", 1),
    Field(9, "again", "Password again", "secret", 1),
    Field(10, "plots_wanted", "Plots wanted", "number", 1),
    Field(11, "ref", "Came from", "short_text", 1),
    Field(12, "note", "Note", "short_text", 1, settings=FieldSettings(default="none")),
    Field(13, "rented", "Rented", "number", 1, formula="sum(plots.size)"),
    Field(14, "double", "Double", "number", 1, formula="area * 2"),
    Field(15, "points", "Points", "number", 1, formula='pick(zone, "north", 1, "hill", 2, 3)'),
    Field(20, "soil", "Soil", "choice", 2, options=(Option("Clay", "clay"), Option("Sand", "sand")), about=PLOT),
    Field(21, "size", "Size", "number", 2, required=True, about=PLOT),
    Field(22, "limed", "Limed", "yes_no", 2, about=PLOT),
)
CATALOGUE: Catalogue = build_catalogue(
    1,
    ZoneInfo("UTC"),
    [Group(1, "All"), Group(2, "Plots", about=PLOT)],
    FIELDS,
    record_types=[
        RecordType(5, "plot", "Plot", "Plots", links=(Link(7, 5, "Holder", "person", False, "Plots", "plots"),))
    ],
    lists=[NamedList(1, "letter", "Letter")],
    levels=[NamedList(1, "sprout", "Sprout"), NamedList(2, "sower", "Sower")],
    tags=("fair",),
    checks=[LibraryCheck(1, "Plot code", PatternCheck(pattern="[A-F][0-9]+", message="Letter and number."))],
)
BY_KEY = {field.key: field.id for field in FIELDS}


def ask(number: int, key: str, **settings: Any) -> Question:
    """A question `q<number>` for a field by its key."""
    return Question(id=f"q{number}", field_id=BY_KEY[key], **settings)


def form(*items: Any, **settings: Any) -> Form:
    """A form of one section, or of the sections given."""
    sections = items if items and isinstance(items[0], Section) else (Section(id="s1", items=items),)
    return Form(title="Join", sections=sections, **settings)


def fill(document: Form, situation: Situation | None = None, /, **answers: str) -> Outcome:
    """The outcome for answers by question; `q5_1` stands for the filling 1 of question 5."""
    named = {name.replace("_", "."): answer for name, answer in answers.items()}
    return prepare(document, CATALOGUE).evaluate(named, MOMENT, situation or Situation())


def d(number: str | int) -> Decimal:
    return Decimal(number)
