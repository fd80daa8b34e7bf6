"""The chat scripts of the demo house."""

import random
from datetime import datetime, timedelta
from typing import Any, Final

from finesieve.core.chat.portable import localised_script
from finesieve.core.chat.script import Script
from finesieve.core.chat.turn import Reply
from finesieve.services.chat.holding import PublicChats, Visitor
from finesieve.services.chat.scripts import create_script, publish_script
from finesieve.services.chat.writing import change_script_settings
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.kernel.scope import Clock, Scope

__all__ = ["hold_conversations", "make_scripts"]

_BED: Final[list[dict[str, Any]]] = [
    {"kind": "say", "id": "l1", "texts": [
        {"text": "Good to see you, {first_name else \"neighbour\"}.", "share": 2},
        {"text": "Hello {first_name else \"neighbour\"}. Muddy boots are welcome here."}]},
    {"kind": "choose", "id": "l2", "text": "Shall we plan your first bed? It takes two minutes.", "replies": [
        {"id": "b1", "label": "Yes, let’s"}, {"id": "b2", "label": "Not now", "to": "l18"},
        {"id": "b3", "label": "When is the last frost?", "kind": "link", "target": "{house.frost_date_page}"}]},
    {"kind": "ask", "id": "l3", "text": "How long is the spot, in metres?", "field": "plot_length",
     "retry": "Just the number, like 4.5.", "known": "confirm",
     "checks": [{"kind": "range", "low": "0.5", "high": "60"}]},
    {"kind": "ask", "id": "l4", "text": "And how wide?", "field": "plot_width", "known": "confirm",
     "retry": "Just the number, like 1.2.", "checks": [{"kind": "range", "low": "0.5", "high": "60"}]},
    {"kind": "ask", "id": "l5", "text": "What is the soil like?", "field": "soil"},
    {"kind": "branch", "id": "l6", "cases": [{"id": "c1", "rule": "soil = \"clay\""}]},
    {"kind": "say", "id": "l7", "under": "c1", "texts": [
        {"text": "Clay holds water well. Dig in a barrow of compost before you sow."}]},
    {"kind": "do", "id": "l8", "actions": [
        {"verb": "becomes", "field": "bed_places", "value": "floor(plot_length * plot_width / 1.2)"},
        {"verb": "becomes", "passing": "packets", "value": "max(1, round(plot_length * plot_width / 3))"}]},
    {"kind": "say", "id": "l9", "texts": [
        {"text": "That is {plot_area}, room for {bed_places} beds. {form.packets} packets of seed would fill it."}]},
    {"kind": "ask", "id": "l10", "text": "Where can we write to you about it?", "field": "email", "known": "skip",
     "retry": "An address like wren@hedgerow.example."},
    {"kind": "ask", "id": "l11", "text": "And what is your first name?", "field": "first_name", "known": "skip"},
    {"kind": "sum_up", "id": "l12", "text": "So this is your bed. Is all of it right?"},
    {"kind": "choose", "id": "l13", "text": "Would you come to a workday, and see how others do it?", "replies": [
        {"id": "b4", "label": "Gladly"}, {"id": "b5", "label": "Another time", "to": "l18"},
        {"id": "b6", "label": "I would rather talk to somebody", "to": "l17"}]},
    {"kind": "do", "id": "l14", "under": "b4", "actions": [
        {"verb": "tag_on", "value": "workday"},
        {"verb": "send", "value": "See you at the next workday. The next swap day is {house.next_swap_day}."}]},
    {"kind": "say", "id": "l15", "under": "b4", "texts": [
        {"text": "You are on the list. The next swap day is {house.next_swap_day}."}]},
    {"kind": "go_to", "id": "l16", "to": "l18"},
    {"kind": "hand_over", "id": "l17", "text": "One of us will write here soon.",
     "note": "Wants to talk about the bed."},
    {"kind": "end", "id": "l18", "text": "Then see you on swap day."},
]  # fmt: skip
_GERMAN: Final[dict[str, str]] = {
    "Plan my first bed": "Mein erstes Beet",
    "Good to see you, {first_name else \"neighbour\"}.":
        "Schön, dass Sie da sind, {first_name else \"Nachbar\"}.",
    "Hello {first_name else \"neighbour\"}. Muddy boots are welcome here.":
        "Hallo {first_name else \"Nachbar\"}. Schmutzige Stiefel sind hier willkommen.",
    "Shall we plan your first bed? It takes two minutes.": "Planen wir Ihr erstes Beet? Es dauert zwei Minuten.",
    "Yes, let’s": "Ja, gern", "Not now": "Jetzt nicht", "When is the last frost?": "Wann ist der letzte Frost?",
    "How long is the spot, in metres?": "Wie lang ist der Platz, in Metern?",
    "Just the number, like 4.5.": "Nur die Zahl, etwa 4,5.", "And how wide?": "Und wie breit?",
    "Just the number, like 1.2.": "Nur die Zahl, etwa 1,2.", "What is the soil like?": "Wie ist der Boden?",
    "Clay": "Lehm", "Loam": "Gartenerde", "Sand": "Sand",
    "Clay holds water well. Dig in a barrow of compost before you sow.":
        "Lehm hält das Wasser gut. Graben Sie vor der Saat eine Schubkarre Kompost unter.",
    "That is {plot_area}, room for {bed_places} beds. {form.packets} packets of seed would fill it.":
        "Das sind {plot_area}, Platz für {bed_places} Beete. {form.packets} Tüten Saatgut würden sie füllen.",
    "Where can we write to you about it?": "Wohin dürfen wir Ihnen dazu schreiben?",
    "An address like wren@hedgerow.example.": "Eine Adresse wie wren@hedgerow.example.",
    "And what is your first name?": "Und wie heißen Sie mit Vornamen?",
    "So this is your bed. Is all of it right?": "Das ist also Ihr Beet. Stimmt alles?",
    "Would you come to a workday, and see how others do it?":
        "Kommen Sie zu einem Arbeitstag, um zu sehen, wie andere es machen?",
    "Gladly": "Gern", "Another time": "Ein andermal",
    "I would rather talk to somebody": "Ich möchte lieber mit jemandem sprechen",
    "You are on the list. The next swap day is {house.next_swap_day}.":
        "Sie stehen auf der Liste. Der nächste Tauschtag ist am {house.next_swap_day}.",
    "See you at the next workday. The next swap day is {house.next_swap_day}.":
        "Bis zum nächsten Arbeitstag. Der nächste Tauschtag ist am {house.next_swap_day}.",
    "One of us will write here soon.": "Jemand von uns schreibt hier bald.",
    "Then see you on swap day.": "Dann bis zum Tauschtag.",
}  # fmt: skip
_QUIZ: Final[list[dict[str, Any]]] = [
    {"kind": "say", "id": "l1", "texts": [{"text": "Three questions, no prizes, some glory."}]},
    {"kind": "choose", "id": "l2", "text": "How deep do you sow a broad bean?", "replies": [
        {"id": "b1", "label": "On top"}, {"id": "b2", "label": "Two knuckles deep"},
        {"id": "b3", "label": "As deep as a spade"}]},
    {"kind": "do", "id": "l3", "under": "b2", "actions": [{"verb": "gains", "passing": "points", "value": "1"}]},
    {"kind": "choose", "id": "l4", "text": "Which of these keeps its seed longest?", "replies": [
        {"id": "b4", "label": "Parsnip"}, {"id": "b5", "label": "Tomato"}]},
    {"kind": "do", "id": "l5", "under": "b5", "actions": [{"verb": "gains", "passing": "points", "value": "1"}]},
    {"kind": "choose", "id": "l6", "text": "A squash crossed with its neighbour last year. Its seed is …", "replies": [
        {"id": "b7", "label": "true to its kind"}, {"id": "b8", "label": "a surprise"}]},
    {"kind": "do", "id": "l7", "under": "b8", "actions": [{"verb": "gains", "passing": "points", "value": "1"}]},
    {"kind": "say", "id": "l8", "texts": [{"text":
        "{form.points} of 3: {if(form.points = 3, \"old hand\", form.points > 0, \"growing\", \"sprouting\")}."}]},
    {"kind": "choose", "id": "l9", "text": "Shall we keep that for you?", "replies": [
        {"id": "b9", "label": "Keep it"}, {"id": "b10", "label": "No, thank you", "to": "l13"}]},
    {"kind": "ask", "id": "l10", "text": "Which email are you known by?", "field": "email", "known": "skip"},
    {"kind": "do", "id": "l11", "actions": [{"verb": "becomes", "field": "seed_quiz", "value": "form.points"}]},
    {"kind": "say", "id": "l12", "texts": [{"text": "Kept."}]},
    {"kind": "end", "id": "l13", "text": "Thank you for playing."},
]  # fmt: skip
_BOX: Final[list[dict[str, Any]]] = [
    {"kind": "branch", "id": "l1", "cases": [{"id": "c1", "rule": "level is filled", "to": "l3"}]},
    {"kind": "end", "id": "l2", "text": "Harvest boxes are for members. Follow the link in our letter, or sign in."},
    {"kind": "say", "id": "l3", "texts": [{"text": "Hello {first_name}."}]},
    {"kind": "ask", "id": "l4", "text": "How many boxes a month shall it be?", "field": "harvest_boxes",
     "known": "confirm",
     "checks": [{"kind": "range", "low": "0", "high": "8"}]},
    {"kind": "ask", "id": "l5", "text": "Anything that you would rather not find in it?", "field": "not_in_box",
     "optional": True, "known": "confirm"},
    {"kind": "sum_up", "id": "l6", "text": "From next month on, then. Is this right?"},
    {"kind": "end", "id": "l7", "text": "Done. The hotline is {house.harvest_hotline}, should a box be late."},
]  # fmt: skip


_PLOTS: Final[list[dict[str, Any]]] = [
    {"kind": "branch", "id": "l1", "cases": [{"id": "c1", "rule": "count(plots) = 0", "to": "l8"}]},
    {"kind": "say", "id": "l2", "texts": [{"text": "Hello {first_name}. Your plots, one after the other."}]},
    {"kind": "record", "id": "l3", "records": "plots", "which": "each",
     "text": "Now {name}, of {area}.", "inside": {"id": "c2"}},
    {"kind": "ask", "id": "l4", "under": "c2", "text": "What is its soil like?", "field": "plots.soil",
     "known": "confirm", "optional": True},
    {"kind": "ask", "id": "l5", "under": "c2", "text": "When was it limed last?", "field": "plots.limed_on",
     "optional": True},
    {"kind": "ask", "id": "l9", "text": "Where shall we bring the lime?", "address": "delivery", "optional": True},
    {"kind": "sum_up", "id": "l6", "text": "Is all of this right?"},
    {"kind": "end", "id": "l7", "text": "Thank you. We bring lime where it is due."},
    {"kind": "end", "id": "l8", "text": "You have no plot with us. Ask for one on the account page."},
]  # fmt: skip


def make_scripts(scope: Scope) -> None:
    """Four scripts, in force: planning a bed, a quiz with a tally, changing a harvest box, and going through plots."""
    group = next(one.id for one in read_catalogue(scope).groups if one.name == "Plot and growing")
    create_field(
        scope, group, FieldInput(label="Bed places", type_key="number", help="How many beds there is room for.")
    )
    create_field(scope, group, FieldInput(label="Seed quiz", type_key="number", help="Points, of three."))
    create_field(scope, group, FieldInput(label="Harvest boxes", type_key="number", help="A month."))
    create_field(scope, group, FieldInput(label="Not in box", type_key="short_text"))
    packets = {"key": "packets", "label": "Packets", "type_key": "number"}
    points = {"key": "points", "label": "Points", "type_key": "number", "start": "0"}
    _make(
        scope, "Plan my first bed", _BED, passing=[packets], languages=["en", "de"], phrases={"de": _GERMAN},
        purpose="Two minutes to a plan, with a person at hand.", speaker="Brackenfold",
    )  # fmt: skip
    _make(scope, "Seed quiz", _QUIZ, passing=[points], purpose="For fun, and to see who knows what.")
    box = _make(scope, "Change my harvest box", _BOX, channels=["web"], purpose="For members, by a link of their own.")
    create_personal_link(scope, PersonalLinkInput(name="My harvest box", script=box, days=60))
    plots = _make(
        scope, "How are your plots?", _PLOTS, channels=["web"], purpose="Once a year, before the lime is ordered."
    )
    create_personal_link(scope, PersonalLinkInput(name="My plots", script=plots, days=60))


_LENGTHS: Final = ("4", "about 6", "3.5 m", "12", "2", "eight or so", "5 metres", "9")
_WIDTHS: Final = ("1.2", "2", "about 1", "3 m", "0.8")
_SOILS: Final = ("1", "2", "3")
_NAMES: Final = ("Orla", "Piet", "Maren", "Idris", "Tove", "Anouk", "Bram", "Sefa", "Ruben", "Lisbet", "Fenna", "Jory")
_WORRIES: Final = (
    "Is it too late to dig this year?",
    "My plot is a triangle, what do I say?",
    "Can somebody come and look?",
)


def hold_conversations(scope: Scope, count: int = 60) -> None:
    """Conversations of the last weeks, by the two scripts that anybody can begin; three of them wait at the desk."""
    dice, now = random.Random(1_848), scope.clock()  # noqa: S311 - made-up people, not secrets
    slug = _slug(scope)
    for number in range(count):
        at = now - timedelta(hours=14 * (count - number), minutes=dice.randrange(600))
        chats = PublicChats(scope.store, _stopped(at))
        waits = number >= count - _AT_DESK
        quiz = number % 4 == 3 and not waits
        replies = _quiz(dice) if quiz else _plan(dice, number, waits)
        token = f"demo-conversation-{number}-{dice.randrange(10**12)}"
        for place, reply in enumerate(replies):
            spoken = ("de",) if number % 9 == 4 and not quiz else ("en",)
            visitor = Visitor(token, 0, spoken, begins=place == 0)
            chats.reply(slug, "seed-quiz" if quiz else "plan-my-first-bed", visitor, Reply(f"d{place}", reply))


_AT_DESK: Final = 3


def _slug(scope: Scope) -> str:
    with scope.reading("reader") as unit:
        return unit.workspace.slug


def _stopped(at: datetime) -> Clock:
    """A clock that stands at a moment."""
    return lambda: at


def _plan(dice: random.Random, number: int, waits: bool) -> list[str]:
    replies = ["1", dice.choice(_LENGTHS), dice.choice(_WIDTHS), dice.choice(_SOILS)]
    replies = [*replies[:2], "5", *replies[2:]] if replies[1] == "eight or so" else replies
    if number % 7 == 2 and not waits:
        return replies[: dice.randrange(1, 4)]
    name = _NAMES[number % len(_NAMES)]
    address = f"{name.lower()}.{number}@bedplans.example"
    replies += [address, name, "1"]
    if waits:
        return [*replies, "3", _WORRIES[number % _AT_DESK]]
    return [*replies, dice.choice(("1", "2", "2"))]


def _quiz(dice: random.Random) -> list[str]:
    return [*(str(dice.randrange(1, 3)) for _ in range(3)), "2"]


def _make(scope: Scope, title: str, steps: list[dict[str, Any]], **parts: Any) -> int:
    script_id = create_script(scope, title)
    document = {"title": title, "steps": steps, **parts}
    made = Script.model_validate(localised_script(document, read_catalogue(scope)))
    change_script_settings(scope, script_id, 0, made.model_dump(mode="json"))
    publish_script(scope, script_id)
    return script_id
