"""The demo house's forms: sections, German, a form of steps with plots, kept cases."""

from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta

from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.services.define.approval import change_approval
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.named_checks import create_check
from finesieve.services.filling.approval import APPROVAL, as_asked
from finesieve.services.filling.decisions import ask_for
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.cases import keep_case
from finesieve.services.forms.composing import (
    FormSettings,
    FormTexts,
    QuestionInput,
    RemarkInput,
    SectionInput,
    add_question,
    add_remark,
    add_section,
    arrange,
    change_form_settings,
    change_form_texts,
    change_question,
    change_remark,
    change_section,
    set_phrases,
)
from finesieve.services.forms.forms import create_form, list_forms, publish_form, read_draft
from finesieve.services.forms.rehearsing import Circumstances
from finesieve.services.forms.sowing import set_asked
from finesieve.services.kernel.scope import Scope
from finesieve.services.pages.editing import create_page, publish_page, save_page
from finesieve.store.reading.rows import ids_after, rows_by_ids

__all__ = ["finish_forms", "make_pages"]

GERMAN = {
    "Join the co-op": "Der Genossenschaft beitreten",
    "About you": "Über Sie",
    "Your plot": "Ihr Beet",
    "Swapping": "Tauschen",
    "Email": "E-Mail",
    "First name": "Vorname",
    "Last name": "Nachname",
    "Born": "Geboren",
    "So that children’s days know their own.": "Damit wir wissen, wen die Kindertage angehen.",
    "Zone": "Lage",
    "Where the plot lies.": "Wo das Beet liegt.",
    "North": "Nord",
    "Hill": "Hügel",
    "South": "Süd",
    "Riverside": "Am Fluss",
    "How do you water?": "Wie gießen Sie?",
    "By hand": "Von Hand",
    "Drip line": "Tropfschlauch",
    "Rain only": "Nur Regen",
    "Litres a day, roughly": "Liter am Tag, ungefähr",
    "Plot length": "Länge des Beets",
    "Plot width": "Breite des Beets",
    "Would you bring seed to swap days?": "Bringen Sie Saatgut zu den Tauschtagen mit?",
    "Which variety would you bring?": "Welche Sorte würden Sie mitbringen?",
    "Join": "Beitreten",
    "Send me the Almanac letter by email": "Den Almanach-Brief bitte per E-Mail",
    "You can take it back at any time.": "Sie können das jederzeit zurücknehmen.",
    "litres": "Liter",
    "m": "m",
    "Between 1 and 500 litres; a watering can holds about ten.": (
        "Zwischen 1 und 500 Litern; eine Gießkanne fasst etwa zehn."
    ),
    "Swap heritage seed, rent a plot, come to the workdays. Together we have saved "
    "{house.packets_saved_so_far} so far. Tell us a little, and we will write only about what concerns you.": (
        "Alte Sorten tauschen, ein Beet mieten, zu den Arbeitstagen kommen. Zusammen haben wir schon "
        "{round(house.packets_saved_so_far)} Tütchen gerettet. "
        "Erzählen Sie uns ein wenig; wir schreiben nur, was Sie angeht."
    ),
    "You are on the list. The next swap day is on {house.next_swap_day}: {house.swap_day_link}": (
        "Sie stehen auf der Liste. Der nächste Tauschtag ist am {house.next_swap_day}: {house.swap_day_link}"
    ),
}


def finish_forms(scope: Scope, form_id: int) -> None:
    """Bring the first form to its third version, make the second, and keep cases of both."""
    plot_code = {
        "kind": "pattern",
        "pattern": "[A-F][0-9]{1,3}",
        "message": "A letter from A to F and a number, such as C14.",
    }
    check_id = create_check(scope, "Plot code", plot_code)
    create_check(scope, "Not in the future", {"kind": "date", "high": {"amount": 0}})
    _join(scope, form_id)
    _rent(scope, check_id)
    _account(scope)
    _membership(scope)


def _revision(scope: Scope, form_id: int) -> Callable[[], int]:
    return lambda: read_draft(scope, form_id).revision


def _join(scope: Scope, form_id: int) -> None:
    revision = _revision(scope, form_id)
    change_section(scope, form_id, revision(), "s1", SectionInput(title="About you"))
    add_section(scope, form_id, revision(), "Your plot")
    add_section(scope, form_id, revision(), "Swapping")
    at = _questions(scope, form_id)
    order = ["s1", at["email"], at["first_name"], at["last_name"], at["born"]]
    order += ["s2", *(at[key] for key in ("zone", "watering", "litres_a_day", "plot_length", "plot_width"))]
    order += ["s3", at["swaps_seed"], at["favourite"], at["consent_email"]]
    arrange(scope, form_id, revision(), order)
    change_question(
        scope, form_id, revision(), at["born"], QuestionInput(checks=({"kind": "date", "high": {"amount": 0}},))
    )
    change_form_settings(
        scope, form_id, revision(), FormSettings(joins=read_draft(scope, form_id).document.joins, languages=("de",))
    )
    set_phrases(scope, form_id, revision(), "de", GERMAN)
    publish_form(scope, form_id, revision())
    drip = {at["email"]: "tamsin@orrell.example", at["first_name"]: "Tamsin", at["watering"]: "drip"}
    by_hand = {**drip, at["watering"]: "by hand", at["litres_a_day"]: "140", at["zone"]: "hill"}
    plot = {at["plot_length"]: "6", at["plot_width"]: "2.5"}
    keep_case(scope, form_id, "newcomer, drip line", Circumstances(day="2026-11-25"), {**drip, **plot})
    keep_case(scope, form_id, "by hand, on the hill", Circumstances(day="2026-11-25"), {**by_hand, **plot})


def _questions(scope: Scope, form_id: int) -> dict[str, str]:
    by_id = read_catalogue(scope).by_id
    return {by_id[one.field_id].key: one.id for one in read_draft(scope, form_id).document.questions}


def _rent(scope: Scope, check_id: int) -> None:
    """A form of steps: who, which plots, what comes with them."""
    catalogue = read_catalogue(scope)
    plots = next(known for known in catalogue.record_types if known.key in ("plot", "plots"))
    group = next(group.id for group in catalogue.groups if group.name == "Plot and growing")
    for made in (
        FieldInput(
            label="Plots wanted", key="plots_wanted", type_key="number", settings={"decimals": 0, "low": 1, "high": 4}
        ),
        FieldInput(label="Tool kit", key="tool_kit", type_key="yes_no", help="A fork, a hoe and a can, yours to keep."),
    ):
        create_field(scope, group, made)
    form_id = create_form(scope, "Rent a plot")
    revision = _revision(scope, form_id)
    texts = FormTexts(
        title="Rent a plot",
        intro="Four short steps. A plot is yours from Michaelmas to Michaelmas.",
        send_label="Ask for the plots",
        thanks="We will write within the week, with a day to walk round together.",
    )
    change_form_texts(scope, form_id, revision(), texts)
    change_form_settings(scope, form_id, revision(), FormSettings(stepped=True, challenge=True))
    change_section(scope, form_id, revision(), "s1", SectionInput(title="Who you are"))
    keys = {field.key: field.id for field in read_catalogue(scope).fields}
    for key in ("first_name", "last_name", "plots_wanted"):
        add_question(scope, form_id, revision(), keys[key], "s1")
    add_section(scope, form_id, revision(), "The plots")
    repeat = SectionInput(
        title="The plots", intro="Tell us about each.", repeat=str(plots.id), count="plots_wanted", most=4, one="Plot"
    )
    change_section(scope, form_id, revision(), "s2", repeat)
    own = {field.key: field.id for field in read_catalogue(scope).fields_about(record_about(plots.id))}
    for key in ("name", "soil", "length", "width"):
        add_question(scope, form_id, revision(), own[key], "s2")
    add_section(scope, form_id, revision(), "Where the bill goes")
    for key in ("billing_country", "billing_street", "billing_town", "billing_region", "billing_postcode"):
        add_question(scope, form_id, revision(), keys[key], "s3")
    add_section(scope, form_id, revision(), "What comes with it")
    add_remark(scope, form_id, revision(), "note", "s4")
    note = RemarkInput(kind="note", text="The hotline for anything about your plot is {house.harvest_hotline}.")
    change_remark(scope, form_id, revision(), "t1", note)
    for key in ("tool_kit", "watering", "litres_a_day"):
        add_question(scope, form_id, revision(), keys[key], "s4")
    at = _questions(scope, form_id)
    charge = {"label": "Tool kit", "amount": "12"}
    for key, asked in {
        "first_name": QuestionInput(required="yes"),
        "plots_wanted": QuestionInput(required="yes", default="1"),
        "name": QuestionInput(
            label="Its code, if you know it", required="no", checks=({"kind": "named", "check_id": check_id},)
        ),
        "length": QuestionInput(checks=({"kind": "range", "low": "2", "high": "60"},)),
        "width": QuestionInput(
            checks=(
                {"kind": "range", "low": "1", "high": "60"},
                {"kind": "condition", "expression": "width <= length", "message": "The width is the shorter side."},
            )
        ),
        "tool_kit": QuestionInput(surcharges=(charge,)),
        "litres_a_day": QuestionInput(show_when='watering = "by hand"'),
    }.items():
        change_question(scope, form_id, revision(), at[key], asked)
    publish_form(scope, form_id, revision())
    answers = {
        at["email"]: "linnet@fairweather.example",
        at["first_name"]: "Linnet",
        at["plots_wanted"]: "2",
        f"{at['length']}.1": "6",
        f"{at['width']}.1": "2.5",
        f"{at['length']}.2": "4",
        f"{at['width']}.2": "3",
        at["tool_kit"]: "yes",
    }
    keep_case(scope, form_id, "two plots and a tool kit", Circumstances(day="2026-11-25"), answers)


def _account(scope: Scope) -> None:
    """The account page: who they are, their plots, what they get; when they were born is for staff to change."""
    catalogue = read_catalogue(scope)
    keys = {field.key: field for field in catalogue.fields}
    change_field(
        scope, keys["born"].id, FieldInput(label="Born", help=keys["born"].help, settings={"change_by": "staff"})
    )
    form_id = create_account_form(scope, "Your account")
    revision = _revision(scope, form_id)
    texts = FormTexts(
        title="Your account",
        send_label="Save",
        thanks="Kept.",
        intro="What we keep about you, and what you can change.",
    )
    change_form_texts(scope, form_id, revision(), texts)
    add_question(scope, form_id, revision(), keys["born"].id, "s1")
    add_section(scope, form_id, revision(), "How you garden")
    for key in ("zone", "watering", "litres_a_day", "swaps_seed", "favourite"):
        add_question(scope, form_id, revision(), keys[key].id, "s2")
    plots = next(known for known in catalogue.record_types if known.key in ("plot", "plots"))
    add_section(scope, form_id, revision(), "Your plots")
    change_section(
        scope, form_id, revision(), "s3", SectionInput(title="Your plots", repeat=str(plots.id), most=6, one="Plot")
    )
    for field in catalogue.fields_about(record_about(plots.id)):
        if field.key in ("soil", "length", "width", "limed_on"):
            add_question(scope, form_id, revision(), field.id, "s3")
    add_section(scope, form_id, revision(), "Letters")
    add_question(scope, form_id, revision(), keys["consent_email"].id, "s4")
    publish_form(scope, form_id, revision())


def _membership(scope: Scope) -> None:
    """Becoming a member: a Sprout gives an email, a Sower where the seed goes, a Steward a phone and their yes to the
    garden rules; market gardeners wait for approval."""
    group = next(one.id for one in read_catalogue(scope).groups if one.name == "Plot and growing")
    rules = FieldInput(
        label="Garden rules", key="garden_rules", type_key="agreement", help="Water before ten, share the tools."
    )
    create_field(scope, group, rules)
    keys = {field.key: field.id for field in read_catalogue(scope).fields}
    form_id = create_form(scope, "Become a member")
    revision = _revision(scope, form_id)
    texts = FormTexts(
        title="Become a member", send_label="Become a member", thanks="Welcome. Your first letter is on its way.",
        intro="Choose how far you want to come along. You can always move up.",
    )  # fmt: skip
    change_form_texts(scope, form_id, revision(), texts)
    add_question(scope, form_id, revision(), LEVEL_QUESTION, "s1")
    at = _questions(scope, form_id)
    arrange(scope, form_id, revision(), ["s1", at["level"], at["email"]])
    change_question(
        scope, form_id, revision(), at["level"], QuestionInput(label="How would you like to begin?", required="yes")
    )
    add_section(scope, form_id, revision(), "A little more")
    plan: dict[str, tuple[str, ...]] = {
        "first_name": ("sower", "steward"), "last_name": ("sower", "steward"), "delivery_street": ("sower", "steward"),
        "delivery_town": ("sower", "steward"), "delivery_postcode": ("sower", "steward"), "phone": ("steward",),
        "gardener": ("sower", "steward"), "garden_rules": ("steward",),
    }  # fmt: skip
    for key, levels in plan.items():
        add_question(scope, form_id, revision(), keys[key], "s2")
        question = _questions(scope, form_id)[key]
        others = [one for one in ("sprout", "sower", "steward", "") if one not in levels]
        set_asked(scope, form_id, revision(), LEVEL_QUESTION, [question], list(levels), "required")
        set_asked(scope, form_id, revision(), LEVEL_QUESTION, [question], others, "not asked")
    publish_form(scope, form_id, revision())
    told = {
        "waiting": "Thank you, {first_name}. Maud will look at it and write to you within the week.",
        "approved": "Welcome, {first_name}. You are one of us now. Follow the link to your account.",
    }
    change_approval(
        scope, 'gardener = "market" and form.level is filled', told, "maud@brackenfold.example", ["level.steward"]
    )
    _let_some_wait(scope, form_id)


def _let_some_wait(scope: Scope, form_id: int) -> None:
    """Six market gardeners who would like to come along."""
    with scope.transaction("owner") as unit:
        ids = ids_after(unit.session, unit.definitions, PERSON, 0, 1_000)
        people = rows_by_ids(unit.session, unit.definitions, PERSON, ["gardener", "level"], ids)
        gardeners = [one for one in ids if people[one]["gardener"] == "market" and people[one]["level"] is None]
        for number, person in enumerate(gardeners[:6]):
            then = replace(
                unit, moment=replace(unit.moment, now=unit.moment.now - timedelta(days=9 - number, hours=5 * number))
            )
            wants = {"level": "steward" if number % 3 == 0 else "sower"}
            ask_for(then, APPROVAL, person, form_id, asked=as_asked(wants, "en"))


def make_pages(scope: Scope) -> None:
    """Two pages for members: what their year brings, and their plots."""
    member = next(one.id for one in list_forms(scope) if one.slug == "become-a-member")
    create_personal_link(scope, PersonalLinkInput(name="Move up", form=member, only_missing=True, days=14))
    year = {
        "title": "Your year",
        "audience": "signed_in",
        "blocks": [
            {
                "text": "Good to see you, {first_name else \"neighbour\"}. The next swap day is on "
                "**{house.next_swap_day}**; you may bring as much as you like."
            },
            {
                "text": "Your level brings you **{level.seed_packets_a_year} packets of seed** this year.",
                "show_when": "level is filled",
            },
            {
                "text": "There is more for you: a Steward has a plot, and a zone to look after.",
                "show_when": 'level in ("sprout", "sower")', "button": "Move up", "to": "{link.move_up}",
            },
            {"text": "You are not a member yet.", "show_when": "level is blank", "button": "Become a member",
             "to": "/join/brackenfold-seed-co-op/become-a-member"},
        ],
    }  # fmt: skip
    plots = {
        "title": "Your plots",
        "audience": "signed_in",
        "blocks": [
            {
                "text": 'You have {count(plots)} {if(count(plots) = 1, "plot", "plots")}, {rented_area} in all.',
                "show_when": "count(plots) > 0",
            },
            {"text": "They were limed last on {last_limed}.", "show_when": "last_limed is filled"},
            {
                "text": "## For clay\n\n- Dig before the frost.\n- Lime every third year.",
                "show_when": 'any(plots where soil = "clay")',
            },
            {"text": "You have no plot yet.", "show_when": "count(plots) = 0", "button": "Rent a plot",
             "to": "/join/brackenfold-seed-co-op/rent-a-plot"},
        ],
    }  # fmt: skip
    for document in (year, plots):
        page_id = create_page(scope, str(document["title"]))
        save_page(scope, page_id, 0, document)
        publish_page(scope, page_id)
