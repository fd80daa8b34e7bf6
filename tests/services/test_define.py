"""Defining: groups, fields, options, order, and taking it back."""

import unittest

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotAllowed, NotFound
from finesieve.services.compute.derived import (
    DerivedInput,
    change_derived,
    create_derived,
    preview_formula,
    read_derived,
)
from finesieve.services.define.fields import FieldInput, change_field, create_field, reorder_fields
from finesieve.services.define.groups import (
    GroupInput,
    change_group,
    create_group,
    read_catalogue,
    read_field,
    read_group,
    reorder_groups,
)
from finesieve.services.kernel.changes import read_change, undo_change
from finesieve.services.kernel.inputs import read_input
from finesieve.services.kernel.scope import reload
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.services.upkeep.readings import read_values_of
from finesieve.store.definitions.catalogue import touch
from tests.support.house import make_house


class Fields(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def keys(self) -> list[str]:
        return [line.field.key for line in read_group(self.scope, self.house.group_id()).lines]

    def test_a_new_workspace_has_the_built_in_fields(self) -> None:
        """Email, names and the day of signing up stand first."""
        self.assertEqual(self.keys()[:5], ["email", "first_name", "last_name", "phone", "signed_up_on"])

    def test_a_field_can_be_used_at_once(self) -> None:
        """A made field has its column, its key and its place at the end."""
        field_id = create_field(
            self.scope, self.house.group_id(), FieldInput(label="Bed width", type_key="number", unit="m")
        )
        self.assertEqual(self.keys()[-1], "bed_width")
        self.house.add(bed_width=3)
        view = read_field(self.scope, field_id)
        self.assertEqual((view.filled, view.people, view.field.unit), (1, 1, "m"))

    def test_what_was_never_committed_is_never_taken_for_what_was(self) -> None:
        """Each state of the definitions has a mark of its own, those of transactions that failed included."""
        marks = []
        for fails in (True, True, False):
            try:
                with self.scope.transaction("owner") as unit:
                    touch(unit.session, unit.workspace_id)
                    marks.append(reload(unit).catalogue.version)
                    if fails:
                        raise ZeroDivisionError
            except ZeroDivisionError:
                continue
        self.assertEqual(len(set(marks)), 3)
        self.assertEqual(read_catalogue(self.scope).version, marks[-1])

    def test_refused_fields(self) -> None:
        """Each refusal stands at its input, and nothing is made."""
        before = self.keys()
        for asked, place in (
            (FieldInput(label="Zone", key="zone"), "key"),
            (FieldInput(label="X", key="and"), "key"),
            (FieldInput(label="X", type_key="choice", options=" \n"), "options"),
            (FieldInput(label="X", type_key="choice", options="A\na"), "options"),
            (FieldInput(label="X", help="As in {zome}."), "help"),
            (FieldInput(label="X", settings={"sample_text": "{zome}"}), "sample_text"),
        ):
            with self.subTest(place), self.assertRaises(InvalidInput) as caught:
                create_field(self.scope, self.house.group_id(), asked)
            self.assertIn(place, caught.exception.messages)
        for data in (
            {"label": ""},
            {"label": "x" * 121},
            {"label": "x\x00"},
            {"label": "X", "type_key": "nonsense"},
            {},
        ):
            with self.subTest(data), self.assertRaises(InvalidInput):
                read_input(FieldInput, data)
        self.assertEqual(self.keys(), before)
        with self.assertRaises(NotFound):
            create_field(self.scope, 999_999, FieldInput(label="X"))

    def test_changing_and_undoing(self) -> None:
        """A change can be taken back and brought back; what is stored stays."""
        field_id = self.house.field_id("zone")
        person = self.house.add(zone="north")
        change = change_field(self.scope, field_id, FieldInput(label="Area", options="Up = north\nHill\nSouth\nWest"))
        field = read_field(self.scope, field_id).field
        self.assertEqual((field.label, field.show("north")), ("Area", "Up"))
        with self.assertRaises(InvalidInput) as caught:
            change_field(self.scope, field_id, FieldInput(label="Area", help="{nothing}"))
        self.assertIn("help", caught.exception.messages)
        undo_change(self.scope, change)
        # A double click takes back once: an undo names what it undoes, and has a direction.
        undo_change(self.scope, change)
        self.assertEqual(read_field(self.scope, field_id).field.label, "Zone")
        for _ in range(2):
            undo_change(self.scope, change, again=True)
        self.assertEqual(read_field(self.scope, field_id).field.label, "Area")
        self.assertEqual(read_values_of(self.scope, field_id).answers, (("Up", 1),))
        self.assertTrue(person)

    def test_an_option_that_is_held_or_named_stays(self) -> None:
        """Nothing is lost by changing options: what people hold, or a segment names, cannot go."""
        field_id = self.house.field_id("zone")
        self.house.add(zone="north")
        with self.assertRaisesRegex(InvalidInput, "1 person holds “North”"):
            change_field(self.scope, field_id, FieldInput(label="Zone", options="Hill\nSouth"))
        segment = create_segment(self.scope, "Southerners")
        change_segment(self.scope, segment, 1, SegmentInput(name="Southerners", expression='zone = "south"'))
        with self.assertRaisesRegex(InvalidInput, "Southerners"):
            change_field(self.scope, field_id, FieldInput(label="Zone", options="North\nHill"))
        self.assertGreater(change_field(self.scope, field_id, FieldInput(label="Zone", options="North\nSouth")), 0)

    def test_the_email_stays_required(self) -> None:
        """A person is known by the email, whatever is asked for."""
        field_id = self.house.field_id("email")
        change_field(self.scope, field_id, FieldInput(label="Your email", required=False))
        self.assertTrue(read_field(self.scope, field_id).field.required)

    def test_order(self) -> None:
        """Fields can be put in any order and into another group; groups too; and back."""
        group = self.house.group_id()
        plot = create_group(self.scope, GroupInput(name="Plot"))
        ids = [line.field.id for line in read_group(self.scope, group).lines]
        before = self.keys()
        change = reorder_fields(self.scope, group, list(reversed(ids)))
        self.assertEqual(self.keys(), list(reversed(before)))
        undo_change(self.scope, change)
        self.assertEqual(self.keys(), before)
        reorder_fields(self.scope, plot, [ids[-1]])
        self.assertEqual(self.keys(), before[:-1])
        reorder_groups(self.scope, [plot, group])
        self.assertEqual([found.name for found in read_catalogue(self.scope).groups], ["Plot", "Who they are"])
        for wrong in ([plot], [plot, group, group], [plot, 999_999]):
            with self.assertRaises(Conflict):
                reorder_groups(self.scope, wrong)

    def test_undo_refuses_after_another_change(self) -> None:
        """What has changed again is not overwritten by an undo."""
        field_id = self.house.field_id("favourite")
        first = change_field(self.scope, field_id, FieldInput(label="One"))
        change_field(self.scope, field_id, FieldInput(label="Two"))
        with self.assertRaises(Conflict):
            undo_change(self.scope, first)
        self.assertEqual(read_field(self.scope, field_id).field.label, "Two")

    def test_nothing_changed_leaves_nothing_to_undo(self) -> None:
        group = self.house.group_id()
        name = read_group(self.scope, group).group
        self.assertEqual(change_group(self.scope, group, GroupInput(name=name.name, description=name.description)), 0)

    def test_roles(self) -> None:
        """A reader and a clerk look; an editor defines."""
        for role in ("reader", "clerk", "public"):
            scope = self.house.as_role(role)  # type: ignore[arg-type]
            with self.assertRaises(NotAllowed):
                create_group(scope, GroupInput(name="X"))
            with self.assertRaises(NotAllowed):
                change_field(scope, self.house.field_id("zone"), FieldInput(label="X"))
        self.assertTrue(read_catalogue(self.house.as_role("reader")).groups)
        self.assertTrue(create_group(self.house.as_role("editor"), GroupInput(name="X")))

    def test_workspaces_are_kept_apart(self) -> None:
        """Another workspace's ids lead nowhere."""
        other = make_house()
        zone, group = other.field_id("zone"), other.group_id()
        change = change_group(other.scope, group, GroupInput(name="Theirs"))
        for attempt in (
            lambda: read_field(self.scope, zone),
            lambda: read_group(self.scope, group),
            lambda: change_field(self.scope, zone, FieldInput(label="Mine")),
            lambda: change_group(self.scope, group, GroupInput(name="Mine")),
            lambda: create_field(self.scope, group, FieldInput(label="Mine")),
            lambda: reorder_fields(self.scope, self.house.group_id(), [zone]),
            lambda: undo_change(self.scope, change),
        ):
            with self.assertRaises(NotFound):
                attempt()
        self.assertIsNone(read_change(self.scope, change))


class Derived(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.area = create_derived(
            self.scope, DerivedInput(label="Area", formula="plot_length * plot_width", unit="m²")
        )

    def test_a_preview_shows_people_and_blanks(self) -> None:
        """A formula is worked out for a few people, with their values in it, and the blanks are counted."""
        self.house.add(first_name="Wren", plot_length=6, plot_width=2)
        self.house.add(first_name="Lis", plot_length=6)
        preview = preview_formula(self.scope, "round(area / 7, 1)", "", "m²")
        self.assertEqual([(s.name, s.worked, s.shown) for s in preview.samples],
                         [("Wren", "round(12 / 7, 1)", "1.7 m²"), ("Lis", "round(blank / 7, 1)", "")])  # fmt: skip
        self.assertEqual((preview.people, preview.blank, preview.volatile), (2, 1, False))
        assert preview.type is not None
        self.assertEqual(preview.type.kind, "number")
        self.assertTrue(preview_formula(self.scope, "age(born)").volatile)

    def test_a_choice_is_shown_by_its_label(self) -> None:
        """A formula that gives an option gives its label to people."""
        self.house.add(zone="north", first_name="Wren")
        preview = preview_formula(self.scope, 'if(zone = "north", zone, "hill")')
        self.assertEqual(preview.samples[0].shown, "North")

    def test_circles_are_refused_with_the_circle_named(self) -> None:
        """Neither straight nor round a corner can a field be worked out from itself."""
        create_derived(self.scope, DerivedInput(label="Double", formula="area * 2"))
        for formula, words in (("area + 1", "Area → Area"), ("plot_length + double", "Area → Double → Area")):
            with self.assertRaises(InvalidExpression) as caught:
                change_derived(self.scope, self.area, DerivedInput(label="Area", formula=formula))
            problem = caught.exception.problems[0]
            self.assertEqual(problem.code, "circle")
            self.assertIn(words, problem.message)
            self.assertIn(formula[problem.span.start : problem.span.end], ("area", "double"))
        self.assertEqual(preview_formula(self.scope, "double", "area").problems[0].code, "circle")

    def test_problems_keep_a_formula_from_being_saved(self) -> None:
        with self.assertRaises(InvalidExpression):
            create_derived(self.scope, DerivedInput(label="X", formula="plot_lenght * 2"))
        with self.assertRaises(InvalidInput) as caught:
            create_derived(self.scope, DerivedInput(label="X", key="zone", formula="1"))
        self.assertIn("key", caught.exception.messages)

    def test_a_result_in_use_keeps_its_type(self) -> None:
        """A number that others count on cannot become a text; unused, it can."""
        double = create_derived(self.scope, DerivedInput(label="Double", formula="area * 2"))
        with self.assertRaisesRegex(InvalidInput, "Double"):
            change_derived(self.scope, self.area, DerivedInput(label="Area", formula="first_name"))
        change = change_derived(self.scope, double, DerivedInput(label="Double", formula="first_name"))
        undo_change(self.scope, change)
        view = read_derived(self.scope, double)
        self.assertEqual((view.field.formula, [field.key for field in view.reads]), ("area * 2", ["area"]))

    def test_derived_fields_are_not_asked_or_changed_as_others(self) -> None:
        with self.assertRaises(InvalidInput):
            change_field(self.scope, self.area, FieldInput(label="X"))
        with self.assertRaises(NotFound):
            read_derived(self.scope, self.house.field_id("zone"))
