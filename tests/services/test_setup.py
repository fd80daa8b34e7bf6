"""The definition as a file: out, in, exact; answers checked by a stock validator; starter sets."""

import json
import tempfile
import unittest
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from sqlmodel import col, select

from finesieve.core import limits
from finesieve.core.errors import InvalidInput, NotAllowed
from finesieve.core.setup.schema import KEYWORDS, read_schema
from finesieve.services.chat.scripts import create_script
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.deletion import delete_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.define.options import OptionListInput, create_option_list
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.filling.mapping import change_mapping
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.ledger import list_changes
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.transfer.setups import (
    export_field,
    export_setup,
    list_starters,
    load_setup,
    plan_setup,
    starter_text,
)
from finesieve.services.values.house import set_house_value
from finesieve.store.tables import Submission
from tests.core.test_setup_schema import PLAIN
from tests.services.test_collect import public
from tests.services.test_command import run
from tests.support.everything import ANSWERS, everything
from tests.support.house import House, make_house
from tests.support.site import Office


def furnished() -> tuple[House, dict[str, int], int]:
    """A house with everything defined, a form over all of it with rules, a segment, derived fields."""
    house = make_house(fields=False)
    scope, ids = house.scope, everything(house)
    create_derived(
        scope, DerivedInput(label="Twice", formula="the_number * 2 + count(plots)", group_id=house.group_id())
    )
    segment = create_segment(scope, "Those with a")
    change_segment(scope, segment, 1, SegmentInput(name="Those with a", expression='the_choice = "a"'))
    create_script(scope, "Talk", ({"kind": "say", "id": "l1", "texts": [{"text": "Hello"}]},))
    form = create_form(scope, "Join us")
    for type_key, field_id in ids.items():
        if type_key in ANSWERS or type_key in ("heading", "note"):
            add_question(scope, form, read_draft(scope, form).revision, field_id)
    questions = {
        read_catalogue(scope).by_id[one.field_id].type_key: one.id for one in read_form(scope, form).document.questions
    }
    for type_key, rule in (
        ("money", 'the_choice = "a"'),
        ("date", 'the_choice in ("a", "b") and the_yes_no'),
        ("time", "the_short_text is filled"),
        ("country", "the_number > 100"),
        ("colour", 'the_choice = "b"'),
    ):
        change_question(
            scope,
            form,
            read_draft(scope, form).revision,
            questions[type_key],
            QuestionInput(show_when=rule, required="yes"),
        )
    publish_form(scope, form, read_draft(scope, form).revision)
    change_mapping(scope, form, "", {ids["short_text"]: "swap_link"})
    create_personal_link(scope, PersonalLinkInput(name="Go on", form=form))
    return house, ids, form


class RoundTrip(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.house, cls.ids, cls.form = furnished()
        cls.text = export_setup(cls.house.scope)[1]

    def test_the_export_builds_an_equal_second_workspace(self) -> None:
        """Everything of the file, in an empty workspace, exports to the same file but for the house's name."""
        other = make_house(fields=False)
        plan = plan_setup(other.scope, self.text)
        self.assertEqual(plan.of("conflict"), ())
        self.assertEqual(
            len([one for one in plan.of("added") if one.what == "field"]),
            len([field for field in read_catalogue(self.house.scope).all_fields if not field.built_in]),
        )
        counts = load_setup(other.scope, self.text)
        self.assertEqual(counts["conflicts"], 0)
        first, second = json.loads(self.text), json.loads(export_setup(other.scope)[1])
        first.pop("title"), second.pop("title")
        self.assertEqual(second, first)
        self.assertEqual(plan_setup(other.scope, self.text).differences, ())

    def test_it_is_a_sound_schema_and_stable(self) -> None:
        Draft202012Validator.check_schema(json.loads(self.text))
        self.assertEqual(export_setup(self.house.scope)[1], self.text)

    def test_every_keyword_is_documented(self) -> None:
        """The file uses no keyword of ours that is not explained, and a starter of it uses all that are."""
        set_house_value(self.house.scope, self.house_field("swap_link"), "https://swap.example")

        def keywords(node: Any) -> set[str]:
            if isinstance(node, dict):
                return {key for key in node if key.startswith("x-sieve-")}.union(*map(keywords, node.values()), set())
            return set().union(*map(keywords, node)) if isinstance(node, list) else set()

        found = keywords(json.loads(export_setup(self.house.scope, values=True)[1]))
        self.assertEqual(found - set(KEYWORDS), set())
        self.assertEqual(set(KEYWORDS) - found, {"x-sieve-level-values", "x-sieve-part"})

    def house_field(self, key: str) -> int:
        return next(f.id for f in read_catalogue(self.house.scope).all_fields if f.about == "house" and f.key == key)

    def test_a_stock_validator_takes_what_was_sent_and_refuses_what_was_not(self) -> None:
        """A real submission fits the form's schema; broken in many ways, it does not."""
        forms = public()
        opened = forms.open(self.house.slug, "join-us")
        answers = {"q1": "wren@hedgerow.example"}
        for one in read_form(self.house.scope, self.form).document.questions[1:]:
            type_key = read_catalogue(self.house.scope).by_id[one.field_id].type_key
            answers[one.id] = ANSWERS.get(type_key, "")
        asked = frozenset(answers)
        sent = forms.send(self.house.slug, "join-us", opened.token, answers, asked)
        self.assertTrue(sent.sent, [(one.field.key, one.message) for one in sent.outcome.troubles])
        with self.house.scope.transaction("reader") as unit:
            stored = dict(
                unit.session.exec(select(Submission.answers).order_by(col(Submission.id).desc()).limit(1)).one()
            )
        self.assertNotIn("the_country", stored)
        from finesieve.core.setup.schema import as_instance

        types = {field.key: field.value_type for field in read_catalogue(self.house.scope).fields_about("person")}
        instance = as_instance(stored, types)
        schema = json.loads(self.text)
        form = {"$ref": "#/$defs/form-join-us", "$defs": schema["$defs"], "properties": schema["properties"]}
        validator = Draft202012Validator(form)
        self.assertEqual([problem.message for problem in validator.iter_errors(instance)], [])
        for key, wrong in (
            ("email", None), ("email", 7), ("the_number", 100.5), ("the_number", "12"), ("the_choice", "z"),
            ("the_choices", ["a", "b", "c"]), ("the_choices", []), ("the_date", "1 March"), ("the_yes_no", "yes"),
            ("the_money", None), ("the_colour", "#205844"), ("the_structured", {"rain": "much"}), ("unknown", 1),
            ("the_country", "ZZ"), ("the_text_list", ["a", "b", "c", "d"]), ("the_short_text", "x" * 41),
        ):  # fmt: skip
            broken = {**instance, key: wrong}
            if wrong is None:
                del broken[key]
            with self.subTest(key=key, wrong=wrong):
                self.assertFalse(validator.is_valid(broken))

    def test_the_command(self) -> None:
        """Export, check answers, try an import and make it; one file a group."""
        other = make_house(fields=False)
        with tempfile.TemporaryDirectory() as directory:
            file, answers = Path(directory) / "setup.json", Path(directory) / "answers.json"
            done = run("schema", "export", self.house.slug)
            self.assertEqual((done.exit_code, done.stdout), (0, self.text))
            file.write_text(done.stdout)
            answers.write_text(json.dumps({"email": "a@b.example", "the_number": 700}))
            checked = run("schema", "check", str(file), "--data", str(answers))
            self.assertEqual(checked.exit_code, 1)
            self.assertIn("the_number", checked.stdout)
            tried = run("schema", "import", other.slug, str(file))
            self.assertEqual((tried.exit_code, "added     field The number" in tried.stdout), (0, True), tried.output)
            self.assertNotIn("the_number", read_catalogue(other.scope).by_key)
            run("schema", "import", other.slug, str(file), "--apply")
            self.assertIn("the_number", read_catalogue(other.scope).by_key)
            run("schema", "export", self.house.slug, "--directory", directory + "/groups")
            groups = sorted(Path(directory, "groups").iterdir())
            self.assertEqual(len(groups), len(read_catalogue(self.house.scope).all_groups))
            for group in groups:
                read_schema(group.read_text())
            self.assertEqual(run("schema", "check", str(answers)).exit_code, 1)

    def test_one_field_to_another_workspace(self) -> None:
        """With its options and its group; the shared list that it uses comes along."""
        other = make_house(fields=False)
        size = next(f for f in read_catalogue(self.house.scope).fields if f.label == "Size")
        load_setup(other.scope, export_field(self.house.scope, size.id))
        made = read_catalogue(other.scope).by_key["size"]
        self.assertEqual([option.label for option in made.options], ["Small", "Large"])
        self.assertNotIn("the_number", read_catalogue(other.scope).by_key)


class Loading(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def edited(self, **changes: Any) -> str:
        schema = json.loads(export_setup(self.scope)[1])
        schema["properties"] |= changes
        return json.dumps(schema)

    def test_the_dry_run_says_what_would_change(self) -> None:
        schema = json.loads(export_setup(self.scope)[1])
        del schema["properties"]["born"]
        schema["properties"]["zone"]["title"] = "Area"
        schema["properties"]["plot_length"]["x-sieve-type"] = "date"
        schema["properties"]["hut"] = {
            "title": "Hut",
            "x-sieve-type": "yes_no",
            "x-sieve-group": schema["x-sieve-groups"][0]["name"],
        }
        plan = plan_setup(self.scope, json.dumps(schema))
        self.assertEqual(
            {(one.change, one.what, one.name) for one in plan.differences},
            {
                ("changed", "field", "Area"),
                ("conflict", "field", "Plot length"),
                ("added", "field", "Hut"),
                ("removed", "field", "Born"),
            },
        )
        self.house.add(born=None, zone="north")
        counts = load_setup(self.scope, json.dumps(schema))
        catalogue = read_catalogue(self.scope)
        self.assertEqual((counts["conflicts"], catalogue.by_key["plot_length"].type_key), (1, "number"))
        self.assertIn("born", catalogue.by_key)
        load_setup(self.scope, json.dumps(schema), remove=True)
        self.assertEqual([field.key for field in read_catalogue(self.scope).deleted], ["born"])

    def test_a_part_says_nothing_of_the_rest(self) -> None:
        """A file of one group removes fields of that group only, one of a field none."""
        close = create_group(self.scope, GroupInput(name="Kept close"))
        for label in ("Debt", "Bond"):
            create_field(self.scope, close, FieldInput(label=label))
        schema = json.loads(export_setup(self.scope, close)[1])
        del schema["properties"]["bond"]
        plan = plan_setup(self.scope, json.dumps(schema))
        self.assertEqual([(one.change, one.name) for one in plan.differences], [("removed", "Bond")])
        alone = export_field(self.scope, self.house.field_id("debt"))
        self.assertEqual(plan_setup(self.scope, alone).differences, ())
        load_setup(self.scope, alone, remove=True)
        self.assertEqual(read_catalogue(self.scope).deleted, ())
        load_setup(self.scope, json.dumps(schema), remove=True)
        self.assertEqual([field.key for field in read_catalogue(self.scope).deleted], ["bond"])

    def test_files_that_are_none(self) -> None:
        """Each gets a sentence; nothing is loaded."""
        group = read_catalogue(self.scope).groups[0].name
        field = {"title": "X", "x-sieve-type": "number", "x-sieve-group": group}
        for text in (
            "", "[]", "{", "null", "1", '{"type": "object"}', "[" * 100_000,
            json.dumps({"x-sieve-format": 99, "properties": {}}),
            self.edited(hut={**field, "x-sieve-type": "nonsense"}),
            self.edited(hut={**field, "title": 7}),
            self.edited(hut="no"),
        ):  # fmt: skip
            with self.subTest(text[-80:]), self.assertRaises(InvalidInput):
                load_setup(self.scope, text)
        self.assertNotIn("hut", read_catalogue(self.scope).by_key)

    def test_what_cannot_be_is_a_conflict(self) -> None:
        group = read_catalogue(self.scope).groups[0].name
        field = {"title": "Hut", "x-sieve-type": "number", "x-sieve-group": group}
        delete_field(self.scope, self.house.field_id("born"), "Born")
        for key, changes in (
            ("and", {}),
            ("born", {}),
            ("hut", {"x-sieve-group": "No such group"}),
            ("hut", {"x-sieve-settings": {"low": "9", "high": "1"}}),
            ("hut", {"x-sieve-settings": {"nonsense": 1}}),
        ):
            with self.subTest(key=key, changes=changes):
                plan = plan_setup(self.scope, self.edited(**{key: {**field, **changes}}))
                self.assertEqual(len(plan.of("conflict")), 1)
                self.assertTrue(plan.of("conflict")[0].why)
        with self.assertRaises(NotAllowed):
            load_setup(self.house.as_role("reader"), export_setup(self.scope)[1])

    def test_parts_that_do_not_fit_together(self) -> None:
        """Whatever is malformed below its keyword is said by the dry run, or when it is loaded, and is not loaded."""
        schema = json.loads(export_setup(self.scope)[1])
        group = schema["x-sieve-groups"][0]
        option = {"label": "A", "value": ""}
        for keyword, parts in (
            ("forms", [{"slug": "a", "document": {"title": "A", "questions": [{"id": "q1"}]}}]),
            ("forms", [{"slug": "a", "document": {"title": "A", "questions": "none"}}]),
            ("forms", [{"slug": "a", "document": {"title": "", "questions": []}}]),
            ("forms", [{"slug": "a", "document": {"title": "A", "questions": [{"id": "q1", "field": "nobody"}]}}]),
            ("groups", [group, {"name": "B", "about": "person", "settings": {"seen_by": "the moon"}}]),
            ("groups", [group, {"name": "B", "about": "record:nothing"}]),
            ("option-lists", [{"name": "Sizes", "options": [option]}]),
            ("links", [{"record_type": "nothing", "name": "A", "target": "person", "back_name": "B", "back_key": "b"}]),
            ("record-types", [{"key": "plots"}]),
            ("house-values", {"email": 7, "nothing": 1}),
            ("level-values", []),
            ("part", "half"),
        ):
            with self.subTest(keyword=keyword, parts=str(parts)[:60]):
                text = json.dumps({**schema, f"x-sieve-{keyword}": parts})
                if keyword == "house-values":
                    self.assertEqual(load_setup(self.scope, text)["added"], 0)
                    continue
                try:
                    plan = plan_setup(self.scope, text)
                    self.assertTrue([one.why for one in plan.of("conflict")] or keyword == "links")
                    self.assertEqual(load_setup(self.scope, text)["added"], 0)
                except InvalidInput as problem:
                    self.assertIn("file", problem.messages)
        self.assertEqual(len(read_catalogue(self.scope).all_groups), 1)

    def test_what_a_file_changes_can_be_taken_back(self) -> None:
        """A form, a segment and a group that were there: each change stands among the changes, and returns."""
        form = create_form(self.scope, "Join us")
        segment = create_segment(self.scope, "Long")
        schema = json.loads(export_setup(self.scope)[1])
        schema["x-sieve-forms"][0]["document"]["title"] = "Join the co-op"
        schema["x-sieve-segments"][0]["expression"] = "plot_length > 3"
        schema["x-sieve-groups"][0]["description"] = "All of it."
        self.assertEqual(load_setup(self.scope, json.dumps(schema))["changed"], 3)
        self.assertEqual(read_form(self.scope, form).document.title, "Join the co-op")
        for change in list_changes(self.scope)[0][:3]:
            undo_change(self.scope, change.id)
        self.assertEqual(read_form(self.scope, form).document.title, "Join us")
        self.assertEqual(read_segment(self.scope, segment).expression, "")
        self.assertNotEqual(read_catalogue(self.scope).groups[0].description, "All of it.")

    def test_the_standard_keywords_are_the_truth(self) -> None:
        """What is edited in the file alone is a difference; an option that somebody holds stays."""
        self.house.add(zone="hill")
        create_form(self.scope, "Join us")
        schema = json.loads(export_setup(self.scope)[1])
        schema["properties"]["zone"]["enum"] = ["north", "south", "moor"]
        schema["properties"]["plot_length"] |= {"minimum": 2}
        schema["required"].append("favourite")
        schema["properties"]["swaps_seed"]["type"] = "string"
        plan = plan_setup(self.scope, json.dumps(schema))
        self.assertEqual(
            {(one.change, one.name) for one in plan.differences},
            {("changed", "Zone"), ("changed", "Plot length"), ("changed", "Favourite"), ("conflict", "Swaps seed")},
        )
        self.assertIn("At properties.swaps_seed.type:", plan.of("conflict")[0].why)
        with self.assertRaises(InvalidInput):
            load_setup(self.scope, json.dumps(schema))
        schema["properties"]["zone"]["enum"].append("hill")
        self.assertEqual(load_setup(self.scope, json.dumps(schema))["conflicts"], 1)
        known = read_catalogue(self.scope).by_key
        self.assertEqual([one.stored_value for one in known["zone"].options], ["north", "south", "moor", "hill"])
        self.assertEqual((known["plot_length"].settings.low, known["favourite"].required), (2, True))

    def test_a_plain_schema_of_another_program(self) -> None:
        """After a dry run: fields, and a form where it has conditions; what cannot be held is said with its place."""
        text = json.dumps(PLAIN)
        plan = plan_setup(self.scope, text)
        self.assertEqual([(one.change, one.name) for one in plan.of("conflict")], [("conflict", "Odd")])
        self.assertEqual(plan.of("removed"), ())
        load_setup(self.scope, text)
        known = read_catalogue(self.scope).by_key
        self.assertEqual(
            [known[key].type_key for key in ("full_name", "hives", "tools")], ["short_text", "number", "choices"]
        )
        self.assertNotIn("odd", known)
        self.assertEqual([one.change for one in plan_setup(self.scope, text).differences], ["conflict"])
        schema = json.loads(export_setup(self.scope)[1])
        conditions = schema["$defs"]["form-bee-keepers"]["allOf"]
        self.assertIn({"if": {"required": ["honey"]}, "then": {"required": ["weight"]}}, conditions)

    def test_a_starter_set_keeps_its_description(self) -> None:
        for name, _title, description, _fields in list_starters():
            house = make_house(fields=False)
            load_setup(house.scope, starter_text(name))
            self.assertEqual(json.loads(export_setup(house.scope, values=True)[1])["description"], description)

    def test_a_formula_that_does_not_work_stops_it_all(self) -> None:
        group = read_catalogue(self.scope).groups[0].name
        bad = {"title": "Bad", "x-sieve-type": "short_text", "x-sieve-group": group, "x-sieve-formula": "nothing + 1"}
        good = {"title": "Hut", "x-sieve-type": "number", "x-sieve-group": group}
        with self.assertRaises(InvalidInput):
            load_setup(self.scope, self.edited(bad=bad, hut=good))
        self.assertNotIn("hut", read_catalogue(self.scope).by_key)


class Starters(unittest.TestCase):
    def test_each_loads_into_an_empty_workspace(self) -> None:
        """Three trades, none of them the demo's; loaded whole, with no conflict, and nothing left to change."""
        self.assertEqual(len(list_starters()), 3)
        for name, title, description, fields in list_starters():
            with self.subTest(name):
                house = make_house(fields=False)
                text = starter_text(name)
                self.assertEqual(plan_setup(house.scope, text).of("conflict"), ())
                self.assertEqual(load_setup(house.scope, text)["conflicts"], 0)
                self.assertEqual(plan_setup(house.scope, text).differences, ())
                self.assertTrue(title and description and fields > 10)


def _longest(most: int, begin: str = "") -> st.SearchStrategy[str]:
    """Texts as long as a page takes them, of any letters, perhaps beginning with a digit or a word of the language."""
    letters = st.text(st.characters(codec="utf-8", categories=("L", "N", "P", "S", "Zs")), min_size=1, max_size=most)
    starts = st.sampled_from([begin, "3 ", "and ", "person ", "{", "9", "Ñ", "–"])
    return st.builds(lambda start, rest: (start + rest * most)[:most], starts, letters)


class Limits(unittest.TestCase):
    @settings(max_examples=8, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    @given(st.data())
    def test_whatever_can_be_saved_can_be_exported_and_loaded(self, data: st.DataObject) -> None:
        """Every text at its longest: the file reads, is no difference here, and makes the same elsewhere."""
        house = make_house(fields=False)
        scope = house.scope

        def text(most: int) -> str:
            return data.draw(_longest(most))

        def saved(make: Callable[[], int]) -> int:
            try:
                return make()
            except InvalidInput:
                return 0  # what cannot be saved need not be exported

        saved(
            lambda: create_membership(
                scope, "list", MembershipInput(name=text(limits.NAME), description=text(limits.DESCRIPTION))
            )
        )
        saved(
            lambda: create_membership(
                scope, "level", MembershipInput(name=text(limits.NAME), description=text(limits.DESCRIPTION))
            )
        )
        saved(lambda: create_option_list(scope, OptionListInput(name=text(limits.NAME), options=text(limits.OPTION))))
        plots = saved(lambda: create_record_type(scope, RecordTypeInput(
            singular=text(limits.NOUN), plural=text(limits.NOUN), symbol=text(limits.SYMBOL),
            description=text(limits.DESCRIPTION), holder=text(limits.NOUN))))  # fmt: skip
        group = saved(
            lambda: create_group(scope, GroupInput(name=text(limits.NAME), description=text(limits.DESCRIPTION)))
        )
        groups = [
            one
            for one in (group, *(known.id for known in read_catalogue(scope).groups_about(f"record:{plots}")))
            if one
        ]
        for group_id in groups:
            long_text = FieldInput(label=text(limits.LABEL), help=text(limits.HELP), type_key="long_text")
            choice = FieldInput(label=text(limits.LABEL), type_key="choice", options=text(limits.OPTION))
            for asked_ in (long_text, choice):
                saved(partial(create_field, scope, group_id, asked_))
        formula = f'"{"x" * (limits.EXPRESSION - 2)}"'
        saved(
            lambda: create_derived(
                scope, DerivedInput(label=text(limits.LABEL), formula=formula, unit=text(limits.UNIT))
            )
        )
        segment = saved(lambda: create_segment(scope, text(limits.LABEL)))
        if segment:
            asked = SegmentInput(
                name=text(limits.LABEL), description=text(limits.DESCRIPTION), expression="email is filled"
            )
            saved(lambda: change_segment(scope, segment, 1, asked))
        form = saved(lambda: create_form(scope, text(limits.TITLE)))
        if form:
            texts = FormTexts(
                title=text(limits.TITLE), intro=text(limits.TEXT), send_label=text(60), thanks=text(limits.TEXT)
            )
            saved(lambda: change_form_texts(scope, form, 1, texts))
        file = export_setup(scope, values=True)[1]
        self.assertEqual([one for one in plan_setup(scope, file).differences if one.change != "same"], [])
        other = make_house(fields=False)
        load_setup(other.scope, file)
        again = plan_setup(other.scope, file).differences
        self.assertEqual([one for one in again if one.change != "same"], [])


if __name__ == "__main__":
    unittest.main()


class Parts(unittest.TestCase):
    """Of a file, the parts that are ticked, and what they need."""

    text = starter_text("choir")

    def taken(self, *wanted: tuple[str, str]) -> set[tuple[str, str]]:
        """What is there after these parts were taken, each by what it is and its name, in a new workspace."""
        scope = make_house(fields=False).scope
        before = plan_setup(scope, self.text).differences
        handles = [one.handle for one in before if (one.what, one.name) in wanted]
        self.assertEqual(len(handles), len(wanted))
        load_setup(scope, self.text, chosen=handles)
        after = plan_setup(scope, self.text).differences
        return {(one.what, one.name) for one in before} - {(one.what, one.name) for one in after}

    def test_a_segment_brings_what_it_reads_and_nothing_else(self) -> None:
        taken = self.taken(("segment", "To be reminded"))
        self.assertEqual({name for what, name in taken if what == "segment"}, {"To be reminded"})
        self.assertLessEqual({("record type", "Scores on loan"), ("field", "Work"), ("field", "Back by")}, taken)
        self.assertEqual({what for what, _ in taken} & {"form", "level", "list", "house value"}, set())
        self.assertNotIn(("field", "Voice"), taken)

    def test_each_part_can_be_taken_alone(self) -> None:
        for one in plan_setup(make_house(fields=False).scope, self.text).differences:
            if one.change in ("added", "changed"):
                with self.subTest(f"{one.what} {one.name}"):
                    self.assertIn((one.what, one.name), self.taken((one.what, one.name)))

    def test_on_the_page_what_is_unticked_stays_away(self) -> None:
        house = make_house(fields=False)
        office = Office(house)
        page = office.post("define/starters", {"name": "choir"}).text
        handle = next(one.handle for one in plan_setup(house.scope, self.text).differences if one.name == "Voice")
        self.assertIn(f'value="{handle}"', page)
        form = {"text": self.text, "load": "yes", "choosing": "yes"}
        self.assertEqual(office.post("define/file", form).status_code, 422)
        self.assertIn(office.post("define/file", {**form, "take": handle}).status_code, (200, 303))
        keys = {field.key for field in read_catalogue(house.scope).fields if not field.built_in}
        self.assertEqual(keys, {"voice"})

    def test_a_region_brings_the_country_that_it_follows(self) -> None:
        there, here = make_house(fields=False).scope, make_house(fields=False).scope
        use_part(there, "billing")
        text = export_setup(there)[1]
        region = next(one.handle for one in plan_setup(here, text).differences if one.name == "Billing region")
        load_setup(here, text, chosen=[region])
        keys = {field.key for field in read_catalogue(here).fields}
        self.assertEqual(
            keys & {"billing_region", "billing_country", "billing_town"}, {"billing_region", "billing_country"}
        )

    def test_a_file_that_does_not_fit_together_leaves_no_workspace_half_made(self) -> None:
        office = Office(make_house())
        before = office.client.get("/workspaces").text.count("/w/")
        for text in ("{", self.text.replace('"field": "voice"', '"field": "pitch"')):
            answer = office.client.post(
                "/workspaces",
                data={"csrf": office.csrf, "name": "Second choir", "zone": "Europe/London", "begin": "file"},
                files={"file": ("setup.json", text.encode())},
            )
            self.assertEqual(answer.status_code, 422)
        self.assertEqual(office.client.get("/workspaces").text.count("/w/"), before)
