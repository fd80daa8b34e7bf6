"""Setting up the demo house: definitions through the services, people by COPY."""

import json
import secrets
from datetime import timedelta
from typing import Final

from sqlmodel import col, select

from finesieve.core.errors import Conflict
from finesieve.core.fields.encoding import to_json
from finesieve.core.values import write_json
from finesieve.demo.chat import hold_conversations, make_scripts
from finesieve.demo.crowd import crowd
from finesieve.demo.forms import finish_forms, make_pages
from finesieve.demo.house import furnish_house
from finesieve.demo.people import MadeUp, make_people
from finesieve.demo.shop import furnish_shop
from finesieve.demo.sift import furnish_sift
from finesieve.services.accounts.staff import NewWorkspace, SignedIn, StaffAccounts
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, change_group, create_group, read_catalogue
from finesieve.services.filling.decisions import ask_for
from finesieve.services.filling.known_email import KNOWN_EMAIL
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.kernel.scope import Clock, Scope, utc_now
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.store.connection.database import Store
from finesieve.store.tables import Submission, Workspace
from finesieve.store.values.bulk import copy_guarded, copy_people

__all__ = ["DEMO_SLUG", "fill_demo", "load_demo", "load_people"]

DEMO_SLUG: Final = "brackenfold-seed-co-op"
_EMAIL: Final = "maud@brackenfold.example"
_ASKED: Final = frozenset(
    "email first_name last_name born gardener zone plot_length plot_width watering litres_a_day soil swaps_seed "
    "favourite consent_email consent_email_at consent_email_text".split()
)
"""What the made-up people were asked, of all that is known of them."""


def load_demo(store: Store, clock: Clock = utc_now, *, people: int = 2_000, fast_hashes: bool = False) -> bool:
    """Make the demo house unless it is there; tells whether it was made."""
    with store.transaction() as session:
        if session.exec(select(Workspace.id).where(col(Workspace.slug) == DEMO_SLUG)).first() is not None:
            return False
    accounts = StaffAccounts(store, clock, fast_hashes=fast_hashes)
    try:
        # The password is unknown to everybody: the sign-in page opens the demo with one click.
        staff_id = accounts.add_staff(_EMAIL, "Maud Ellery", secrets.token_urlsafe(16))
    except Conflict:
        return False
    slug = accounts.create_workspace(NewWorkspace(name="Brackenfold Seed Co-op", zone="Europe/London"), staff_id)
    scope = accounts.enter(slug, SignedIn(staff_id, "Maud Ellery", "")).scope
    fields = _define(scope)
    form_id = _compose(scope, fields)
    load_people(scope, list(make_people(people, clock())), form_id)
    _compute_and_sift(scope)
    _hold_one(scope, form_id)
    furnish_house(scope, form_id)
    finish_forms(scope, form_id)
    furnish_shop(scope, clock())
    make_pages(scope)
    make_scripts(scope)
    hold_conversations(scope)
    furnish_sift(scope)
    return True


def fill_demo(store: Store, people: int) -> int:
    """Add people to the demo house until there are so many; gives how many were added."""
    with store.transaction() as session:
        workspace_id = session.exec(select(Workspace.id).where(col(Workspace.slug) == DEMO_SLUG)).one()
    return crowd(Scope(store, workspace_id or 0, "the demo", "owner"), people)


def _define(scope: Scope) -> dict[str, int]:
    """Groups and fields; gives the field ids by key."""
    who = read_catalogue(scope).groups[0].id
    change_group(scope, who, GroupInput(name="Who they are", description="Names, and how to reach them."))
    plot = create_group(scope, GroupInput(name="Plot and growing", description="What a person grows on, and how."))
    swap = create_group(scope, GroupInput(name="Swapping", description="What they bring to the swap days."))
    zones = "North\nHill\nSouth\nRiverside = river"
    roles = "Home gardener = home\nSchool\nMarket gardener = market"
    made = (
        (who, FieldInput(label="Born", key="born", type_key="date", help="So that children’s days know their own.")),
        (who, FieldInput(label="Kind of gardener", key="gardener", type_key="choice", options=roles)),
        (plot, FieldInput(label="Zone", key="zone", type_key="choice", options=zones, help="Where the plot lies.")),
        (plot, FieldInput(label="Plot length", key="plot_length", type_key="number", unit="m")),
        (plot, FieldInput(label="Plot width", key="plot_width", type_key="number", unit="m")),
        (
            plot,
            FieldInput(
                label="Watering",
                key="watering",
                type_key="choice",
                options="By hand\nDrip line = drip\nRain only = rain",
            ),
        ),
        (plot, FieldInput(label="Litres a day", key="litres_a_day", type_key="number", unit="litres")),
        (plot, FieldInput(label="Soil", key="soil", type_key="choice", options="Clay\nLoam\nSand")),
        (swap, FieldInput(label="Swaps seed", key="swaps_seed", type_key="yes_no")),
        (swap, FieldInput(label="Favourite variety", key="favourite", type_key="short_text")),
    )
    for group_id, asked in made:
        create_field(scope, group_id, asked)
    for part in ("work", "billing", "delivery", "language", "seen", "consent_email"):
        use_part(scope, part)
    return {field.key: field.id for field in read_catalogue(scope).fields}


def _compose(scope: Scope, fields: dict[str, int]) -> int:
    """The sign-up form, published; gives its id."""
    form_id = create_form(scope, "Join the co-op")

    def revision() -> int:
        return read_draft(scope, form_id).revision

    texts = FormTexts(
        title="Join the co-op",
        intro=(
            "Swap heritage seed, rent a plot, come to the workdays. "
            "Tell us a little, and we will write only about what concerns you."
        ),
        send_label="Join",
        thanks="You are on the list. The next Almanac letter goes out on the first of the month.",
    )
    change_form_texts(scope, form_id, revision(), texts)
    for key in (
        "first_name",
        "last_name",
        "born",
        "zone",
        "watering",
        "litres_a_day",
        "plot_length",
        "plot_width",
        "swaps_seed",
        "favourite",
        "consent_email",
    ):
        add_question(scope, form_id, revision(), fields[key])
    by_field = {question.field_id: question.id for question in read_draft(scope, form_id).document.questions}
    settings = {
        "first_name": QuestionInput(required="yes"),
        "watering": QuestionInput(label="How do you water?"),
        "litres_a_day": QuestionInput(
            label="Litres a day, roughly",
            show_when='watering = "by hand"',
            checks=(
                {
                    "kind": "range",
                    "low": "1",
                    "high": "500",
                    "message": "Between 1 and 500 litres; a watering can holds about ten.",
                },
            ),
        ),
        "plot_length": QuestionInput(checks=({"kind": "range", "low": "0.5", "high": "60"},)),
        "plot_width": QuestionInput(checks=({"kind": "range", "low": "0.5", "high": "60"},)),
        "swaps_seed": QuestionInput(label="Would you bring seed to swap days?"),
        "consent_email": QuestionInput(label="Send me the Almanac letter by email"),
        "favourite": QuestionInput(label="Which variety would you bring?", show_when="swaps_seed"),
    }
    for key, asked in settings.items():
        change_question(scope, form_id, revision(), by_field[fields[key]], asked)
    publish_form(scope, form_id, revision())
    return form_id


def _compute_and_sift(scope: Scope) -> None:
    groups = {group.name: group.id for group in read_catalogue(scope).groups}
    area = DerivedInput(
        label="Plot area",
        key="plot_area",
        unit="m²",
        formula="round(plot_length * plot_width, 1)",
        help="Length times width.",
        group_id=groups["Plot and growing"],
    )
    create_derived(scope, area)
    water = DerivedInput(
        label="Water a week",
        key="water_a_week",
        unit="litres",
        group_id=groups["Plot and growing"],
        formula='if(watering = "by hand", litres_a_day * 7, watering = "drip", round(plot_area * 0.8 * 7), 0)',
        help="What a plot needs in a dry week.",
    )
    create_derived(scope, water)
    segments = (
        (
            "Swappers, North and Hill",
            "People to invite to the April seed swap.",
            'zone in ("north", "hill") and plot_area > 30 and swaps_seed',
        ),
        ("Thirsty plots", "Who should hear first when the butts run low.", 'water_a_week >= 700 and zone != "river"'),
        ("Young growers", "For the under-thirties’ workday.", "age(born) < 30 and plot_area is filled"),
    )
    for name, description, expression in segments:
        segment_id = create_segment(scope, name)
        change_segment(scope, segment_id, 1, SegmentInput(name=name, description=description, expression=expression))


def load_people(scope: Scope, people: list[MadeUp], form_id: int | None = None) -> None:
    """Add many people at once, with history, and with a sent form each where `form_id` is given."""
    with scope.transaction("owner") as unit:
        fields = [field for field in unit.catalogue.stored if field.key in people[0].values]
        keys = [field.key for field in fields]
        rows = ([person.values[key] for key in keys] for person in people)
        ids = copy_people(unit.session, unit.definitions, keys, rows)
        source = "form: Join the co-op"
        columns = ["workspace_id", "about", "entity_id", "field_id", "new", "source", "actor", "at"]
        lines = (
            (
                unit.workspace_id,
                "person",
                person_id,
                field.id,
                write_json(to_json(value)),
                source,
                "the person",
                person.signed_up_at,
            )
            for person_id, person in zip(ids, people, strict=True)
            for field in fields
            if (value := person.values[field.key]) is not None
        )
        copy_guarded(unit.session, "history", columns, lines)
        if form_id is not None:
            columns = [
                "workspace_id",
                "form_id",
                "version",
                "key",
                "person_id",
                "state",
                "answers",
                "records",
                "charges",
                "received_at",
            ]
            sent = (
                (
                    unit.workspace_id,
                    form_id,
                    1,
                    f"made-up-{person_id}",
                    person_id,
                    "stored",
                    _answers(person),
                    "[]",
                    "[]",
                    person.signed_up_at,
                )
                for person_id, person in zip(ids, people, strict=True)
            )
            copy_guarded(unit.session, "submission", columns, sent)


def _answers(person: MadeUp) -> str:
    answers = {key: to_json(value) for key, value in person.values.items() if value is not None and key in _ASKED}
    return json.dumps(answers)


def _hold_one(scope: Scope, form_id: int) -> None:
    """A second sign-up with a known email, for the clerk to decide on."""
    with scope.transaction("owner") as unit:
        person_id = unit.session.exec(
            select(Submission.person_id).order_by(col(Submission.received_at).desc()).offset(6).limit(1)
        ).one()
        earlier = unit.session.exec(select(Submission).where(col(Submission.person_id) == person_id)).one()
        answers = earlier.answers | {"watering": "drip", "plot_length": "9.5", "plot_width": "4"}
        answers.pop("litres_a_day", None)
        held = Submission(
            workspace_id=unit.workspace_id,
            form_id=form_id,
            version=1,
            key="made-up-held",
            person_id=person_id,
            state="held",
            answers=answers,
            records=[],
            received_at=unit.moment.now - timedelta(minutes=50),
        )
        unit.session.add(held)
        unit.session.flush()
        ask_for(unit, KNOWN_EMAIL, person_id, form_id, held.id).at = held.received_at
