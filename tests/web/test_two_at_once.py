"""Two specialists save the same thing: the second is told by whom, shown both, and can put theirs in place knowingly."""

import re
import unittest
from concurrent.futures import ThreadPoolExecutor
from html import unescape

from finesieve.services.compute.derived import DerivedInput, change_derived, create_derived, read_derived
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.define.options import OptionInput, change_options, list_option_lists
from finesieve.services.forms.composing import (
    FormSettings,
    FormTexts,
    QuestionInput,
    add_question,
    change_form_settings,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.forms import create_form, read_draft, read_form
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import add_record
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from tests.support.everything import everything
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

    def leads(self, attributes: str, page: str) -> str:
        """Where a form posts to, without its query."""
        action = re.search(r'action="([^"]*)"', attributes)
        return (action[1] if action else "").partition("?")[0] or self.office.path(page.partition("?")[0])

    def inputs(self, page: str, action: str) -> dict[str, list[str]]:
        """All inputs of the form that posts to `action`, as the page holds them, ready to be sent back."""
        text = self.office.get(page).text
        body = next(
            inside
            for attributes, inside in re.findall(r"<form([^>]*)>(.*?)</form>", text, re.S)
            if self.leads(attributes, page) == self.office.path(action)
            and ('name="was_' in inside or 'name="shown"' in inside)
        )
        given: dict[str, list[str]] = {}
        for tag in re.findall(r"<input[^>]*>", body):
            name, value = re.search(r'name="([^"]*)"', tag), re.search(r'value="([^"]*)"', tag)
            if name and (not re.search(r'type="(radio|checkbox|file)"', tag) or "checked" in tag):
                given.setdefault(name[1], []).append(unescape(value[1]) if value else "")
        for name_, options in re.findall(r'<select[^>]*name="([^"]*)"[^>]*>(.*?)</select>', body, re.S):
            chosen = re.search(r'value="([^"]*)"\s*selected', options) or re.search(r'value="([^"]*)"', options)
            given[name_] = [unescape(chosen[1]) if chosen else ""]
        for name_, written in re.findall(r'<textarea[^>]*name="([^"]*)"[^>]*>\n?(.*?)</textarea>', body, re.S):
            given.setdefault(name_, []).append(unescape(written))
        return given

    def together(self, page: str, post: str, one: dict[str, str], other: dict[str, str], clash: dict[str, str]) -> None:
        """Two look at a page. What each changes is kept from both; what both change, the second is told of.

        `one` and `other` are different inputs with what is typed there, `clash` is `one` with something else.
        """
        first, second, third = (self.inputs(page, post) for _ in range(3))
        for given, typed in ((first, one), (second, other)):
            answer = self.office.post(post, {**given, **{name: [text] for name, text in typed.items()}})  # type: ignore[dict-item]
            self.assertIn(answer.status_code, (200, 303), answer.text[:2_000])
        now = self.inputs(page, post)
        for name, text in (one | other).items():
            self.assertEqual(now[name], [text], f"{name} of {page}")
        answer = self.office.post(post, {**third, **{name: [text] for name, text in clash.items()}})  # type: ignore[dict-item]
        self.assertEqual(answer.status_code, 409, page)
        self.assertIn("has changed this meanwhile", answer.text)
        for text in clash.values():
            self.assertIn(text, unescape(answer.text), "what was typed is lost")
        self.assertEqual(self.inputs(page, post), now)

    def test_what_only_one_changed_is_kept_from_both(self) -> None:
        """On every page that shows inputs and saves them, by the one mechanism."""
        scope, group = self.house.scope, self.house.group_id()
        everything(self.house)
        catalogue = read_catalogue(scope)
        plots = next(known for known in catalogue.record_types if known.plural == "Plots")
        person = self.house.add(zone="north", favourite="Kale")
        record = add_record(scope, plots.id, {"name": "A1", "soil": "loam"}, {})
        level, list_id = catalogue.levels[0].id, catalogue.lists[0].id
        sizes = list_option_lists(scope)[0].id
        packets = next(field for field in catalogue.fields_about("level") if field.type_key == "number")
        create_field(scope, packets.group_id, FieldInput(label="Perks"))
        form = create_form(scope, "Join us")
        for key in ("favourite", "zone"):
            add_question(scope, form, read_draft(scope, form).revision, self.house.field_id(key))
        change_form_settings(scope, form, read_draft(scope, form).revision, FormSettings(languages=("de",)))
        house_group = next(found for found in catalogue.all_groups if found.about == "house").id
        for label in ("Favourite", "Best seed"):
            create_field(scope, house_group, FieldInput(label=label))
        favourite = self.house.field_id("favourite")
        for page, post, one, other, clash in (
            (f"people/{person}?edit={group}", f"people/{person}", {"v_favourite": "Leek"}, {"v_plot_length": "4"}, {"v_favourite": "Chard"}),
            (f"records/{plots.id}/{record}?edit=1", f"records/{plots.id}/{record}", {"v_name": "B2"}, {"v_soil": "clay"}, {"v_name": "C3"}),
            (f"define/levels/{level}", f"define/levels/{level}/values", {f"v_{packets.key}": "7"}, {"v_perks": "Cake"}, {f"v_{packets.key}": "8"}),
            ("define/levels", f"define/levels/{level}", {"name": "Shoot"}, {"description": "First"}, {"name": "Root"}),
            ("define/lists", f"define/lists/{list_id}", {"name": "Letter"}, {"description": "Weekly"}, {"name": "Paper"}),
            (f"define/options/{sizes}", f"define/options/{sizes}", {"name": "Girths"}, {"options": "Small\nLarge\nHuge"}, {"name": "Widths"}),
            (f"define/{group}?edit=1", f"define/{group}", {"name": "Who"}, {"description": "Names"}, {"name": "Whom"}),
            (f"define/records/{plots.id}?edit=1", f"define/records/{plots.id}", {"singular": "Bed"}, {"description": "Soil"}, {"singular": "Field"}),
            ("define/manner", "define/manner", {"currency": "EUR"}, {"zone": "Europe/London"}, {"currency": "USD"}),
            (f"define/mapping/{form}", f"define/mapping/{form}", {f"pair_{favourite}": "favourite"}, {}, {f"pair_{favourite}": "best_seed"}),
        ):  # fmt: skip
            with self.subTest(page):
                self.together(page, post, one, other, clash)

    def test_tags_and_lists_are_put_on_and_taken_off(self) -> None:
        """Sets never clash: what each puts on or takes off happens to what is there."""
        create_membership(self.house.scope, "list", MembershipInput(name="Letter"))
        person = self.house.add(tags=("old", "both"))
        page, post = f"people/{person}", f"people/{person}/memberships"
        first, second = self.inputs(page, post), self.inputs(page, post)
        self.office.post(post, {**first, "tags": "both, old, first"})  # type: ignore[dict-item]
        self.office.post(post, {**second, "tags": "both, second", "lists": "letter"})  # type: ignore[dict-item]
        labels = read_profile(self.house.scope, person).memberships
        self.assertEqual((set(labels.tags), labels.lists), ({"both", "first", "second"}, ("letter",)))

    def test_ticks_of_a_group_are_kept_where_it_is_refused(self) -> None:
        """A name that cannot be, or a clash, shows the ticks as they were made and not as they are stored."""
        create_membership(self.house.scope, "level", MembershipInput(name="Steward"))
        group = self.house.group_id()
        page, post = f"define/{group}?edit=1", f"define/{group}"
        ticked = {**self.inputs(page, post), "change_by": ["levels"], "change_levels": ["steward"], "folded": ["true"]}
        without_name = self.office.post(post, {**ticked, "name": [""], "on_profile": []})  # type: ignore[dict-item]
        self.office.post(post, {**self.inputs(page, post), "name": ["Theirs"]})  # type: ignore[dict-item]
        overtaken = self.office.post(post, {**ticked, "name": ["Mine"]})  # type: ignore[dict-item]
        self.assertEqual((without_name.status_code, overtaken.status_code), (422, 409))
        for answer in (without_name, overtaken):
            self.assertRegex(answer.text, r'name="change_levels"\s+value="steward" checked')
        self.assertRegex(without_name.text, r'name="folded" value="true" checked')
        self.assertNotRegex(without_name.text, r'name="on_profile" value="true" checked')

    def test_at_the_very_same_moment(self) -> None:
        """Eight people save eight fields of one person at once: all eight are kept."""
        keys = []
        for number in range(8):
            create_field(self.house.scope, self.house.group_id(), FieldInput(label=f"Part {number}"))
            keys.append(f"part_{number}")
        person = self.house.add()
        shown = dict.fromkeys(keys, "")
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda key: set_values(self.house.scope, person, {**shown, key: key}, was=shown), keys))
        lines = [line for _, found in read_profile(self.house.scope, person).groups for line in found]
        self.assertEqual(
            {line.field.key: line.shown for line in lines if line.field.key in shown}, {key: key for key in keys}
        )

    def test_options_are_one_thing(self) -> None:
        zone = self.house.field_id("zone")
        page = f"define/fields/{zone}/options"
        before = self.seen(page, "seen")
        rows = [OptionInput(was=one, label=one.title(), value=one) for one in ("north", "hill", "south")]
        change_options(self.colleague, zone, [*rows, OptionInput(label="West")])
        data = {"seen": before, "rows": "0,1", "o_0_was": "north", "o_0_label": "Up there", "o_0_value": "north",
                "o_1_was": "hill", "o_1_label": "Hill", "o_1_value": "hill"}  # fmt: skip
        answer = self.office.post(page, data)
        self.assertEqual((answer.status_code, "Up there" in answer.text), (409, True))
        self.assertIn("west", read_catalogue(self.house.scope).by_id[zone].value_type.options)

    def test_translations(self) -> None:
        form = create_form(self.house.scope, "Join us")
        change_form_settings(
            self.house.scope, form, read_draft(self.house.scope, form).revision, FormSettings(languages=("de",))
        )
        post = f"collect/{form}/languages"
        shown = self.inputs(f"{post}?to=de", post)
        place = shown["source"].index("Join us")
        for said, status in (("Mach mit", 303), ("Komm mit", 409)):
            texts = [said if number == place else text for number, text in enumerate(shown["text"])]
            answer = self.office.post(f"{post}?to=de", {**shown, "text": texts})  # type: ignore[dict-item]
            self.assertEqual((answer.status_code, said in answer.text or status == 303), (status, True))
        self.assertEqual(read_form(self.house.scope, form).document.phrases["de"]["Join us"], "Mach mit")

    def test_undo_names_what_it_undoes(self) -> None:
        """Two who press undo on the same page, or one who presses twice, take back one change."""
        form = create_form(self.house.scope, "Join us")
        for title in ("One", "Two", "Three"):
            change_form_texts(
                self.house.scope, form, read_draft(self.house.scope, form).revision, FormTexts(title=title)
            )
        page = self.office.get(f"collect/{form}").text
        change = re.search(r'/undo">.*?name="change" value="(\d+)"', page, re.S)
        assert change
        for _ in range(2):
            self.office.post(f"collect/{form}/undo", {"change": change[1]})
        self.assertEqual(read_form(self.house.scope, form).document.title, "Two")

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
        revision = read_draft(self.house.scope, form).revision
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
        revision = read_draft(self.house.scope, form).revision
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
