"""A turn of a conversation as it comes about: the state as it changes, and what has been said so far."""

from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from finesieve.core.chat.effects import Effects, effects_of
from finesieve.core.chat.journal import ADD, Entry, Frame, Made, State, fold
from finesieve.core.chat.prepare import PASSING, PreparedScript, Subject
from finesieve.core.chat.records import collection_of
from finesieve.core.chat.replies import (
    Offer,
)
from finesieve.core.chat.script import (
    END,
)
from finesieve.core.chat.summing import Answered, answered_so_far
from finesieve.core.chat.turn import Message, Trace, Turn
from finesieve.core.chat.world import TalkWorld, member_of, records_of, talk_row, value_of, with_entry
from finesieve.core.fields.about import HOUSE
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.rows import FormRow, inside
from finesieve.core.language.program import Moment
from finesieve.core.values import Value, plain_number

__all__ = ["Run"]


class Run:
    """A turn: the state as it changes, and what has been said so far."""

    def __init__(self, scripts: Mapping[str, PreparedScript], world: TalkWorld, state: State) -> None:
        self.scripts, self.world = scripts, world
        self.state = state.copied()  # this turn's own, so that nobody else sees it change
        self.messages: list[Message] = []
        self.offers: tuple[Offer, ...] = ()
        self.expects: dict[str, Any] | None = None
        self.effects: Effects | None = None
        self.understood, self.quiet = "", ""
        self.handed_over: str | None = None
        self.trace: list[Trace] = []
        self.restarts = self.hush = False
        self.code_to = ""
        self._row: tuple[FormRow, Moment] | None = None
        self._members: dict[str, Mapping[str, Value]] = {}
        self._answered: tuple[FormRow, tuple[Entry, ...], tuple[Answered, ...]] | None = None
        self._made: Made | None = None
        self._script: tuple[tuple[Frame, ...], PreparedScript] | None = None
        self.say = self.script.wording(state.language)

    @property
    def script(self) -> PreparedScript:
        """The script that is under way, as the line has it."""
        stack = self.state.stack
        if self._script is None or self._script[0] is not stack:
            found = self.scripts[stack[-1].script if stack else self.state.script]
            here = stack[-1].record if stack else ""
            self._script = stack, found.within(collection_of(here)) if here else found
        return self._script[1]

    @property
    def step(self) -> Any:
        """The line that it stands at, None at the end."""
        stack = self.state.stack
        return self.script.flow.by_id.get(stack[-1].step) if stack else None

    @property
    def row(self) -> Mapping[str, Value]:
        """The values as the line reads them: of the record first, where it is about one."""
        row = self._values()[0]
        return inside(row, self.member(self.state.record)) if self.state.record else row

    @property
    def around(self) -> FormRow:
        """The values of the person, whichever record it is about."""
        return self._values()[0]

    @property
    def moment(self) -> Moment:
        if self._row is None and not self.state.written.house and not any(one.house for one in self.state.journal):
            return self.world.moment  # the house is as it is: the values need not be worked out for that
        return self._values()[1]

    def _values(self) -> tuple[FormRow, Moment]:
        if self._row is None:
            self._row = talk_row(self.script, self.world, self.state)
            self._members = {}
        return self._row

    def records(self, collection: str) -> dict[str, Mapping[str, Value]]:
        """The records of a collection by their name, as they would be."""
        return records_of(self.script, self.world, self.state, fold(self.state.journal), collection)

    def member(self, record: str) -> Mapping[str, Value]:
        """The values of a record, as they would be."""
        if record not in self._members:
            made = fold(self.state.journal)
            self._members[record] = member_of(self.script, self.world, self.state, made, record, self.moment)
        return self._members[record]

    def answered(self) -> tuple[Answered, ...]:
        """What was answered so far; worked out once for as long as neither the journal nor the values change."""
        row, journal = self.around, self.state.journal
        if self._answered is None or self._answered[0] is not row or self._answered[1] is not journal:
            self._answered = row, journal, answered_so_far(self.scripts, self.world, self.state, row, self.moment)
        return self._answered[2]

    def change(self, **parts: Any) -> None:
        """Change parts of the state."""
        for name, value in parts.items():
            setattr(self.state, name, value)

    def renew(self) -> None:
        """What the values rest on has changed: they are worked out anew."""
        self._row, self._members = None, {}

    def turn(self) -> Turn:
        """What has come of it. Only now does the state tell what is written: the world is the one before."""
        if self._made is not None:
            self.change(written=self._made)
        return Turn(
            self.state, tuple(self.messages), self.offers, self.expects, self.effects, self.understood, self.quiet,
            self.handed_over, tuple(self.trace), restarts=self.restarts, hush=self.hush,
            code_to=self.code_to,
        )  # fmt: skip

    def say_mode(self) -> None:
        """What can be done where no line is under way."""
        if self.state.mode == "ended":
            self.offers, self.expects = (Offer("start_over", self.say("Start again")),), None

    def filled(self, text: str) -> str:
        """A text in the language of the conversation, its placeholders filled in."""
        if not text:
            return ""
        said = self.say(text)
        if "{" not in said and "}" not in said:
            return said
        pieces = self.script.template(said).pieces(self.row, self.moment, self.script.show)
        return "".join(piece.text for piece in pieces)

    def move(self, to: str) -> None:
        """Go to a line of the script that is under way, or to its end; about the same record for as long as it stays
        among the lines about it."""
        stack = self.state.stack
        record = stack[-1].record
        if record and self.script.flow.block(to) != self.script.flow.block(stack[-1].step):
            record = ""
        self.enter(to, record)

    def enter(self, to: str, record: str) -> None:
        """Go to a line, about a record or "" for none."""
        stack = self.state.stack
        frame = Frame(stack[-1].script, "" if to == END else to, 0, record)
        self.change(stack=(*stack[:-1], frame), sub={}, tries=0)
        self.offers, self.expects = (), None

    def keep(self, entry: Entry) -> None:
        """Put something into the journal; the values follow."""
        self.change(journal=(*self.state.journal, entry))
        self._members = {}
        if self._row is not None and not with_entry(self._row[0], self.script, self.state.place[0], entry):
            self.renew()

    def note(self, words: str) -> None:
        self.trace.append(Trace(self.state.place[1], words))

    def start_passing(self, slug: str) -> None:
        """Let the passing values of a script start anew."""
        script = self.scripts[slug]
        starts = {}
        for one in script.script.passing:
            if one.start:
                starts[f"{slug}:{one.key}"] = to_json(script.passing[one.key].parse(one.start))
            elif one.type_key == "number":
                starts[f"{slug}:{one.key}"] = None
        if starts:
            self.keep(Entry("done", 0, self.state.stack, passing=starts))

    def commit(self) -> None:
        """Write what was made since the last time."""
        self._made = fold(self.state.journal)
        self.effects = effects_of(self.state.written, self._made)
        self.change(committed=len(self.state.journal))

    def hand_over(self, note: str) -> None:
        self.commit()
        self.handed_over, self.offers, self.expects = note, (), None
        self.quiet = "" if self.messages else "A clerk has the conversation."
        self.change(mode="clerk", sub={}, reuse=())

    def plain(self, text: str, understood: str = "") -> Turn:
        """Say one thing by itself."""
        self.messages.append(Message(self.say(text), "plain"))
        self.understood = understood
        self.say_mode()
        return self.turn()

    def stored_data(self, key: str) -> Any:
        """What is stored of the person in a field, as it is kept."""
        return to_json(self.world.situation.stored.get(key))

    def amount(self, subject: Subject, how: str, data: Any) -> dict[str, Any]:
        if subject.of == PASSING:
            if how == ADD:
                now = value_of(subject, self.row, self.moment)
                data = plain_number((now if isinstance(now, Decimal) else Decimal(0)) + Decimal(data))
            return {"passing": {f"{self.state.place[0]}:{subject.key}": data}}
        if subject.of_record:
            return {"records": {self.state.record: {subject.key: (how, data)}}}
        return {"house" if subject.of == HOUSE else "person": {subject.key: (how, data)}}
