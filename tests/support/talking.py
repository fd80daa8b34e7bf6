"""Chat scripts for tests: small ones, over a few fields, held by files alone."""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from finesieve.core.chat.journal import State
from finesieve.core.chat.machine import advance
from finesieve.core.chat.turn import Reply, Turn
from finesieve.core.setup.document import (
    FieldPart,
    GroupPart,
    LabelPart,
    LinkPart,
    RecordTypePart,
    ScriptPart,
    Setup,
)
from finesieve.core.setup.talk import Talk

NOW = datetime(2026, 11, 27, 10, 30, tzinfo=UTC)
_SOILS = (
    {"label": "Clay", "value": "clay"},
    {"label": "Loam soil", "value": "loam"},
    {"label": "Sandy loam", "value": "sand"},
)
FIELDS = (
    ("length", "Length", "number", {"unit": "m"}),
    ("width", "Width", "number", {"unit": "m"}),
    ("beds", "Beds", "number", {}),
    ("packets", "Packets", "number", {"settings": {"default": "5"}}),
    ("soil", "Soil", "choice", {"options": _SOILS}),
    ("soils", "Soils", "choices", {"options": _SOILS}),
    ("swaps", "Swaps seed", "yes_no", {}),
    ("plot_name", "Plot name", "short_text", {}),
    ("born", "Born", "date", {}),
    ("secret_note", "Staff note", "short_text", {"settings": {"private": True}}),
    ("word", "Word", "secret", {}),
    ("photo", "Photo", "picture", {}),
    ("sketch", "Sketch", "structured", {}),
    ("area", "Area", "number", {"formula": "length * width", "unit": "m²"}),
)


OF_PLOTS = (
    ("title", "Name of the plot", "short_text", {}),
    ("size", "Size", "number", {"unit": "m²"}),
    ("ground", "Ground", "choice", {"options": _SOILS}),
    ("rank", "Staff rank", "number", {"settings": {"private": True}}),
    ("rent", "Rent", "number", {"formula": "size * 2"}),
)


def setup(
    steps: Sequence[Mapping[str, Any]], others: Mapping[str, Sequence[Mapping[str, Any]]] | None = None, **parts: Any
) -> Setup:
    """A file with these fields and the script `talk`, and other scripts by their short names."""
    scripts = [ScriptPart(slug="talk", document={"title": "Talk", "steps": list(steps), **parts})]
    scripts += [
        ScriptPart(slug=slug, document={"title": slug, "steps": list(lines), **parts})
        for slug, lines in (others or {}).items()
    ]
    return Setup(
        groups=(
            GroupPart(name="Growing", about="person"), GroupPart(name="House", about="house"),
            GroupPart(name="Plot", about="record:plot"),
        ),
        record_types=(RecordTypePart(key="plot", singular="Plot", plural="Plots", title="title"),),
        links=(LinkPart(record_type="plot", name="Holder", target="person", back_name="Plots", back_key="plots"),),
        fields=(
            *(FieldPart(key=key, label=label, about="person", group="Growing", type=kind, **more) for key, label, kind, more in FIELDS),
            *(FieldPart(key=key, label=label, about="record:plot", group="Plot", type=kind, **more) for key, label, kind, more in OF_PLOTS),
            FieldPart(key="left", label="Packets left", about="house", group="House", type="number"),
        ),
        lists=(LabelPart(key="almanac", name="Almanac"),),
        scripts=tuple(scripts),
        house_values={"left": "40"},
    )  # fmt: skip


class Talking:
    """A conversation under way: say something, look at what came."""

    def __init__(
        self, steps: Sequence[Mapping[str, Any]], person: Mapping[str, Any] | None = None, *, channel: Any = "web",
        language: str = "", others: Mapping[str, Sequence[Mapping[str, Any]]] | None = None, **parts: Any,
    ) -> None:  # fmt: skip
        self.talk = Talk(setup(steps, others, **parts), "talk", NOW, person=person, channel=channel, language=language)
        self.replies = 0
        self.turn: Turn = self.talk._began()
        self.last = self.talk._said(self.turn)

    @property
    def state(self) -> State:
        return self.talk.state

    def say(self, text: str = "", *, press: str = "", key: str = "", **more: Any) -> dict[str, Any]:
        """Reply; gives the result as the command prints it."""
        self.replies += 1
        self.turn = self.talk._took(Reply(key or f"r{self.replies}", text, press, **more))
        self.last = self.talk._said(self.turn)
        return self.last

    @property
    def texts(self) -> list[str]:
        return [one["text"] for one in self.last["messages"]]

    @property
    def offers(self) -> list[str]:
        return [one["label"] for one in self.last["offers"]]

    @property
    def values(self) -> dict[str, Any]:
        return dict(self.last["values"])

    def again(self, state: State, reply: Reply) -> Turn:
        """A reply to any state, without a trace."""
        return advance(self.talk.scripts, self.talk._world, state, reply)


def ask(number: int, field: str, **more: Any) -> dict[str, Any]:
    """A line that asks a field."""
    return {"kind": "ask", "id": f"l{number}", "text": f"{field}?", "field": field, **more}


def say(number: int, text: str, **more: Any) -> dict[str, Any]:
    """A line that says something."""
    return {"kind": "say", "id": f"l{number}", "texts": [{"text": text}], **more}


def about(number: int, which: str, **more: Any) -> dict[str, Any]:
    """A line about plots; those that are asked of one stand under `c` and its number."""
    inside = {"id": f"c{number}"}
    return {"kind": "record", "id": f"l{number}", "records": "plots", "which": which, "inside": inside, **more}


def choose(number: int, *replies: Any, **more: Any) -> dict[str, Any]:
    """A line with replies: labels, or (label, where it leads)."""
    made = []
    for place, one in enumerate(replies, number * 10):
        label, to = one if isinstance(one, tuple) else (one, "")
        made.append({"id": f"b{place}", "label": label, "to": to})
    return {"kind": "choose", "id": f"l{number}", "text": f"choose {number}", "replies": made, **more}


def do(number: int, *actions: Mapping[str, Any], **more: Any) -> dict[str, Any]:
    """A line that does something."""
    return {"kind": "do", "id": f"l{number}", "actions": list(actions), **more}
