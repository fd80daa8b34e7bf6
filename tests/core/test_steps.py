"""A worked-out expression step by step, and why it is blank."""

import unittest
from decimal import Decimal

from finesieve.core.language.checker import check
from finesieve.core.language.derived import Derivation
from finesieve.core.language.names import Place, World
from finesieve.core.language.steps import Step, gaps, steps
from finesieve.core.values import Type, plain_number
from tests.support.fields import MOMENT

WORLD = World(
    Place("person", {"length": Type("number"), "width": Type("number"), "soil": Type("text"), "member": Type("yes_no")}, {"plots": "record:1"}),
    {"record:1": Place("record:1", {"area": Type("number"), "soil": Type("text")})},
)  # fmt: skip


def opened(text: str, **values: object) -> Step:
    typed = check(text, WORLD).typed
    assert typed is not None, text
    plots = values.pop("plots", ())
    row = Derivation({}).row(
        {"length": None, "width": None, "soil": None, "member": None, **values, "plots": plots}, MOMENT
    )  # type: ignore[dict-item]
    return steps(text, typed, row, MOMENT)


def why(text: str, **values: object) -> list[tuple[str, str]]:
    return [(gap.why, gap.step.text) for gap in gaps(opened(text, **values))]


class Steps(unittest.TestCase):
    def test_each_part_with_its_value(self) -> None:
        step = opened("round(length * width, 1) + 2", length=Decimal(3), width=Decimal("2.55"))
        found = [(one.text, plain_number(one.value)) for one in step.walk() if one.operation != "const"]
        self.assertEqual(
            found,
            [("round(length * width, 1) + 2", "9.7"), ("round(length * width, 1)", "7.7"), ("length * width", "7.65"), ("length", "3"), ("width", "2.55")],
        )  # fmt: skip

    def test_records_one_by_one(self) -> None:
        plots = (
            {"area": Decimal(4), "soil": "clay"},
            {"area": Decimal(9), "soil": "sand"},
            {"area": Decimal(1), "soil": None},
        )
        step = opened('sum(plots.area where soil = "clay")', plots=plots)
        self.assertEqual([(one.verdict, one.value) for one in step.members], [(True, 4), (False, 9), (None, 1)])
        self.assertEqual((step.value, step.column, step.about), (4, "area", "record:1"))


class WhyBlank(unittest.TestCase):
    def test_what_is_filled_has_no_reason(self) -> None:
        self.assertEqual(why("length * 2", length=Decimal(1)), [])

    def test_names_divisions_and_domains(self) -> None:
        self.assertEqual(why("length * width", width=Decimal(2)), [("blank", "length")])
        self.assertEqual(why("length * width + width"), [("blank", "length"), ("blank", "width")])
        self.assertEqual(
            why("length / (width - 2)", length=Decimal(1), width=Decimal(2)), [("zero", "length / (width - 2)")]
        )
        self.assertEqual(why("power(length, 0.5)", length=Decimal(4)), [("domain", "power(length, 0.5)")])

    def test_only_what_decided(self) -> None:
        """The branch that was not taken is no reason."""
        self.assertEqual(why("if(member, length, width)", member=True), [("blank", "length")])
        self.assertEqual(why("if(member, length, width)", width=Decimal(1), length=Decimal(1)), [("blank", "member")])

    def test_records(self) -> None:
        self.assertEqual(why("max(plots.area)"), [("nothing", "max(plots.area)")])
        sand = ({"area": None, "soil": "sand"},)
        self.assertEqual(why("max(plots.area)", plots=sand), [("column", "max(plots.area)")])
        text = 'max(plots.area where soil = "clay")'
        self.assertEqual(why(text, plots=sand), [("nothing", text)])
