"""The rest of the demo house: house values, plots, levels, lists, tags, an order field."""

import random
from datetime import date, timedelta
from decimal import Decimal
from typing import Final

from sqlalchemy import Date, Integer, cast, func, literal, select, update

from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.definition import ListEffect
from finesieve.core.model.level_ends import LEVEL_ENDS
from finesieve.core.values import Value, write_json
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.level_ends import LevelEndInput, set_level_end
from finesieve.services.define.memberships import MembershipInput, create_membership, set_level_values
from finesieve.services.define.record_types import LinkInput, RecordTypeInput, add_link, create_record_type
from finesieve.services.forms.composing import FormTexts, QuestionInput, change_form_texts, change_question
from finesieve.services.forms.forms import publish_form, read_draft
from finesieve.services.kernel.scope import Scope
from finesieve.services.values.house import set_house_value
from finesieve.store.definitions.catalogue import touch
from finesieve.store.definitions.state import mark_changed
from finesieve.store.language.compiler import bound
from finesieve.store.tables import TagRow
from finesieve.store.values.bulk import copy_guarded, copy_links, copy_rows

__all__ = ["furnish_house"]

_SEED: Final = 1847


def furnish_house(scope: Scope, form_id: int) -> None:
    """Everything but people and their first form, made through the services."""
    _levels_and_lists(scope)
    _house_values(scope, form_id)
    _plots(scope)
    _tags(scope)


def _house_values(scope: Scope, form_id: int) -> None:
    group = create_group(scope, GroupInput(name="Links and figures", about=HOUSE, description="What many texts quote."))
    made = (
        ("Swap day link", "url", "https://swap.brackenfold.example/april", "Where people sign up for the next swap."),
        ("Harvest hotline", "phone", "01632 960147", "Rung when a box is late."),
        ("Frost date page", "url", "https://frost.brackenfold.example", ""),
        ("Next swap day", "date", "2027-04-18", ""),
        ("Meeting point", "short_text", "", "Where the next workday begins."),
        ("Packets a swapper", "number", "12", "How many packets one swapper saves in a year, on average."),
    )
    for label, type_key, raw, help_text in made:
        field_id = create_field(scope, group, FieldInput(label=label, type_key=type_key, help=help_text))
        if raw:
            set_house_value(scope, field_id, raw)
    saved = DerivedInput(
        label="Packets saved so far",
        formula="count(people where swaps_seed) * packets_a_swapper",
        unit="packets",
        group_id=group,
        help="From all who bring seed to the swap days.",
    )
    create_derived(scope, saved)
    form = read_draft(scope, form_id)
    texts = FormTexts(
        title=form.document.title,
        intro=(
            "Swap heritage seed, rent a plot, come to the workdays. Together we have saved "
            "{house.packets_saved_so_far} so far. Tell us a little, and we will write only about what concerns you."
        ),
        send_label=form.document.send_label,
        thanks="You are on the list. The next swap day is on {house.next_swap_day}: {house.swap_day_link}",
    )
    change_form_texts(scope, form_id, form.revision, texts)
    letter = next(known.id for known in read_catalogue(scope).lists if known.key == "almanac_letter")
    revision, document = read_draft(scope, form_id).revision, read_draft(scope, form_id).document
    consent = read_catalogue(scope).by_key["consent_email"].id
    asked = next(one for one in document.questions if one.field_id == consent)
    effect = ListEffect(list_id=letter, option="yes")
    change_question(scope, form_id, revision, asked.id, QuestionInput(label=asked.label, lists=(effect,)))
    publish_form(scope, form_id, read_draft(scope, form_id).revision)
    shop = create_group(scope, GroupInput(name="In the shop", about=ORDER, description="What staff note on an order."))
    create_field(scope, shop, FieldInput(label="Shelf", type_key="short_text", help="Where the parcel waits."))


def _levels_and_lists(scope: Scope) -> None:
    for name, words in (
        ("Sprout", "Letters and swap days."),
        ("Sower", "A parcel of seed each spring."),
        ("Steward", "A plot, and a zone to look after."),
    ):
        create_membership(scope, "level", MembershipInput(name=name, description=words))
    for name, words in (("Almanac letter", "Once a month."), ("Swap board", "Offers and wishes.")):
        create_membership(scope, "list", MembershipInput(name=name, description=words))
    group = create_group(scope, GroupInput(name="What a level brings", about=LEVEL))
    create_field(scope, group, FieldInput(label="Seed packets a year", type_key="number"))
    create_field(scope, group, FieldInput(label="Yearly fee", type_key="money"))
    catalogue = read_catalogue(scope)
    for level, packets, fee in zip(catalogue.levels, ("6", "20", "40"), ("0", "18", "36"), strict=True):
        set_level_values(scope, level.id, {"seed_packets_a_year": packets, "yearly_fee": fee})
    steward = next(level.id for level in catalogue.levels if level.key == "steward")
    set_level_end(scope, steward, LevelEndInput(ends="after", after=1, unit="years", falls_to="sower"))
    board = next(known.id for known in catalogue.lists if known.key == "swap_board")
    swapping = next(group.id for group in catalogue.groups if group.name == "Swapping")
    offers = FieldInput(label="Offers this year", type_key="long_text", settings={"lists": [board]})
    create_field(scope, swapping, offers)


def _plots(scope: Scope) -> None:
    plots = RecordTypeInput(
        singular="Plot", plural="Plots", symbol="▦", description="A rented piece of the field.", holder="Holder"
    )
    type_id = create_record_type(scope, plots)
    add_link(scope, type_id, LinkInput(name="Helper", back_name="Helped plots", many=True))
    about = f"record:{type_id}"
    group = read_catalogue(scope).groups_about(about)[0].id
    for asked in (
        FieldInput(label="Soil", type_key="choice", options="Clay\nLoam\nSand"),
        FieldInput(label="Length", type_key="number", unit="m"),
        FieldInput(label="Width", type_key="number", unit="m"),
        FieldInput(label="Limed on", type_key="date"),
        FieldInput(label="Leased until", type_key="date"),
    ):
        create_field(scope, group, asked)
    create_derived(scope, DerivedInput(label="Area", unit="m²", formula="round(length * width, 1)", group_id=group))
    _fill_plots(scope, about)
    growing = next(group.id for group in read_catalogue(scope).groups if group.name == "Plot and growing")
    rented = DerivedInput(
        label="Rented area",
        unit="m²",
        formula="sum(plots.area)",
        group_id=growing,
        help="Of all plots that a person holds.",
    )
    create_derived(scope, rented)
    limed = DerivedInput(
        label="Last limed", formula="latest(plots.limed_on by limed_on)", group_id=growing, help="Any of their plots."
    )
    create_derived(scope, limed)


def _fill_plots(scope: Scope, about: str) -> None:
    """About one in four people holds a plot, a few hold two; some have a helper."""
    chance = random.Random(_SEED)  # noqa: S311 - made-up data, the same every time
    with scope.transaction("owner") as unit:
        person = unit.definitions.person
        ids = [int(row[0]) for row in unit.session.execute(select(person.c.id).order_by(person.c.id))]
        holders = [(i, n) for i in ids if chance.random() < 0.26 for n in range(1 + (chance.random() < 0.15))]
        keys = ["name", "soil", "length", "width", "limed_on", "leased_until"]
        today = unit.moment.today
        rows = [_plot(chance, number, today) for number, _ in enumerate(holders, 1)]
        made = copy_rows(unit.session, unit.definitions, about, keys, rows)
        record_type = next(known for known in unit.catalogue.record_types if known.about == about)
        holder, helper = record_type.links
        links = [(holder.id, record, i) for record, (i, _) in zip(made, holders, strict=True)]
        links += [(helper.id, record, chance.choice(ids)) for record in made if chance.random() < 0.2]
        copy_links(unit.session, unit.definitions, links)
        by_key = unit.catalogue.keys_of(about)
        columns = ["workspace_id", "about", "entity_id", "field_id", "new", "source", "actor", "at"]
        lines = (
            (
                unit.workspace_id,
                about,
                record,
                by_key[key].id,
                write_json(to_json(value)),
                "import",
                unit.actor,
                unit.moment.now,
            )
            for record, row in zip(made, rows, strict=True)
            for key, value in zip(keys, row, strict=True)
            if value is not None
        )
        copy_guarded(unit.session, "history", columns, lines)


def _plot(chance: random.Random, number: int, today: date) -> list[Value]:
    limed = today - timedelta(days=chance.randrange(30, 1500)) if chance.random() < 0.7 else None
    return [
        f"{chance.choice('ABCDEF')}{number}",
        chance.choices(("clay", "loam", "sand"), (5, 4, 2))[0],
        Decimal(chance.randrange(6, 31)) / 2,
        Decimal(chance.randrange(4, 17)) / 2,
        limed,
        date(today.year + chance.randrange(0, 4), 9, 29),
    ]


def _tags(scope: Scope) -> None:
    """Tags as they come about: a few passing ones, and a family that behaves like a field."""
    chance = random.Random(_SEED + 1)  # noqa: S311 - as above
    steps = ("bed-marked", "bed-dug", "bed-planted")
    with scope.transaction("owner") as unit:
        person = unit.definitions.person
        ids = [int(row[0]) for row in unit.session.execute(select(person.c.id).order_by(person.c.id))]
        carried: dict[int, list[str]] = {}
        for person_id in ids:
            if chance.random() < 0.12:
                step = chance.randrange(3)
                carried[person_id] = [steps[step]] + ([steps[step - 1]] if step and chance.random() < 0.06 else [])
            if chance.random() < 0.05:
                carried.setdefault(person_id, []).append("open day 2026")
        for person_id, tags in carried.items():
            unit.session.execute(
                update(person).where(person.c.id == person_id).values(tags=bound(tuple(tags), "choices"))
            )
        for name in (*steps, "open day 2026"):
            unit.session.add(TagRow(workspace_id=unit.workspace_id, name=name))
        board = unit.catalogue.lists
        on_board = [person_id for person_id in ids if chance.random() < 0.3]
        keys = tuple(known.key for known in board if known.key == "swap_board")
        for level, upto in (("sprout", 0.6), ("sower", 0.93), ("steward", 1.0)):
            chosen = [person_id for person_id in on_board if chance.random() < upto]
            on_board = [person_id for person_id in on_board if person_id not in set(chosen)]
            values = {"lists": bound(keys, "choices"), "level": level}
            unit.session.execute(update(person).where(person.c.id.in_(chosen)).values(values))
            if level == "steward":
                last = literal(unit.moment.today, Date) + 20 + cast((person.c.id * 37) % 340, Integer)
                ends = {unit.catalogue.by_key[LEVEL_ENDS].column: last}
                unit.session.execute(update(person).where(person.c.id.in_(chosen)).values(ends))
        # Whoever agreed to the letter gets it.
        agreed = person.c[unit.catalogue.by_key["consent_email"].column]
        with_letter = func.array_prepend("almanac_letter", person.c.lists)
        unit.session.execute(update(person).where(agreed).values(lists=with_letter))
        mark_changed(unit.session, unit.workspace_id, PERSON)
        touch(unit.session, unit.workspace_id)
