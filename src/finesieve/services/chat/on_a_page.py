"""What is asked in a conversation and given on a page of its own, which a signed link leads to."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

from finesieve.core.chat.journal import State, read_state
from finesieve.core.chat.machine import Scripts, advance
from finesieve.core.chat.run import Run
from finesieve.core.chat.script import ADDRESS_NAMES, Ask
from finesieve.core.chat.turn import Reply
from finesieve.core.errors import LinkEnded
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.definition import Question
from finesieve.core.forms.outcome import QuestionOutcome
from finesieve.core.forms.wording import Wording
from finesieve.core.values import Value
from finesieve.services.chat.holding import Line, scripts_of, take_turn, world_of
from finesieve.services.kernel.arrivals import count_arrival
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Clock, Unit, public_scope
from finesieve.services.values.files import Examined, examine, send_file
from finesieve.services.values.sealing import seals
from finesieve.services.values.writing import change_person
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from finesieve.store.tables import ChatScriptRow, Conversation

__all__ = ["AnswerPages", "AskedOnPage"]

_OVER: Final = "That question has been answered, or is not asked any more. Look at the conversation."
_LONGEST: Final = 20_000


@dataclass(frozen=True, slots=True)
class AskedOnPage:
    """A question on a page of its own: what is asked, with the inputs and what is wrong with them by field key, and
    where the conversation is ("" for one that is held by text messages)."""

    house: str
    title: str
    text: str
    items: tuple[QuestionOutcome, ...]
    messages: Mapping[str, str]
    optional: bool
    back: str
    say: Wording


@dataclass(frozen=True, slots=True)
class _Place:
    """A conversation that stands at such a question."""

    row: Conversation
    scripts: Scripts
    state: State
    run: Run
    step: Ask
    fields: tuple[Field, ...]


class AnswerPages:
    """The pages of all workspaces on which something is given to a conversation."""

    def __init__(self, store: Store, clock: Clock, secret: str, files: FileStore) -> None:
        self._store, self._clock, self._links, self._files = store, clock, Links(secret), files

    def open(self, workspace: str, token: str) -> AskedOnPage:
        """The question that a link leads to. Raises NotFound, LinkEnded."""
        scope, house = public_scope(self._store, workspace, self._clock)
        with scope.reading("public") as unit:
            return self._asked(unit, house, self._place(unit, token))

    def give(
        self,
        workspace: str,
        token: str,
        typed: Mapping[str, str],
        sent: Mapping[str, tuple[str, bytes]],
        came_from: str = "",
    ) -> AskedOnPage:
        """Take what was given, by field key; the conversation goes on, or where something does not fit, the page tells
        what. Given twice, it counts once.

        Raises NotFound, LinkEnded, TooOften.
        """
        scope, house = public_scope(self._store, workspace, self._clock)
        count_arrival(scope, "answer", came_from)
        with scope.reading("public") as unit:
            place = self._place(unit, token)
            values, files, messages = _read(place, typed, sent)
            asked = self._asked(unit, house, place, typed, messages)
        if messages:
            return asked
        for examined in files.values():
            send_file(scope, self._files, examined)
        values |= {key: examined.file for key, examined in files.items()}
        self._take(workspace, token, values)
        return asked

    @seals
    def _take(self, workspace: str, token: str, values: Mapping[str, Value]) -> None:
        scope, _ = public_scope(self._store, workspace, self._clock)
        with scope.transaction("public") as unit:
            place = self._place(unit, token, lock=True)
            secret = [one.key for one in place.fields if one.type.kind == "secret" and values.get(one.key) is not None]
            if secret:
                given = {key: values[key] for key in secret}
                title = place.scripts[place.state.script].script.title
                change_person(unit, place.row.person_id, given, f"chat: {title}")
            kept = {key: to_json(value) for key, value in values.items() if key not in secret}
            world = world_of(unit, place.row.person_id, confirmed=place.row.confirmed)
            visit = place.state.stack[-1].visit
            turn = advance(place.scripts, world, place.state, Reply(f"p:{place.row.id}:{visit}", given=kept))
            take_turn(unit, place.row, place.scripts, turn, [Line(0, "person", "given", turn.understood or "–", {})])

    def _place(self, unit: Unit, token: str, *, lock: bool = False) -> _Place:
        parts = self._links.read("ask", unit.moment.now, token)
        if parts is None or len(parts) != 2:
            raise LinkEnded(_OVER)
        row = unit.session.get(Conversation, parts[0], with_for_update=True if lock else None)
        if row is None:
            raise LinkEnded(_OVER)
        scripts, state = scripts_of(unit, row), read_state(row.state)
        run = Run(scripts, world_of(unit, row.person_id, confirmed=row.confirmed), state)
        step = run.step
        is_asked = state.mode == "script" and isinstance(step, Ask) and state.stack[-1].visit == parts[1]
        fields = run.script.page_fields(step) if is_asked else ()
        if not fields:
            raise LinkEnded(_OVER)
        return _Place(row, scripts, state, run, step, fields)

    def _asked(
        self,
        unit: Unit,
        house: str,
        place: _Place,
        typed: Mapping[str, str] | None = None,
        messages: Mapping[str, str] | None = None,
    ) -> AskedOnPage:
        run, row = place.run, place.row
        slug = unit.session.get_one(ChatScriptRow, row.script_id).slug
        text = run.filled(place.step.text) or run.say(
            ADDRESS_NAMES[place.step.address] if place.step.address else place.fields[0].label
        )
        known = {one.key: run.row.get(one.key) for one in place.fields} if typed is None and row.confirmed else {}
        usual = {one.key: unit.manner.country for one in place.fields if one.type_key == "country"}
        shown = typed or usual | {key: value for key, value in known.items() if isinstance(value, str)}
        items = tuple(_item(one, shown, place.step) for one in place.fields)
        told = {key: run.say(words) for key, words in (messages or {}).items()}
        back = f"/chat/{unit.workspace.slug}/{slug}" if row.channel == "web" else ""
        title = run.say(place.scripts[place.state.script].script.title)
        return AskedOnPage(house, title, text, items, told, place.step.optional, back, run.say)


def _item(field: Field, shown: Mapping[str, str], step: Ask) -> QuestionOutcome:
    """A field as the page draws it; a region or a postcode beside the country that is shown."""
    needed = _is_needed(field, step)
    raw = shown.get(field.key, "")
    return QuestionOutcome(
        field.key, Question(id="q1", field_id=field.id), field.beside(shown), True, raw=raw, required=needed,
        offered=field.offered,
    )  # fmt: skip


def _is_needed(field: Field, step: Ask) -> bool:
    """Whether it has to be given: of an address its street and its town."""
    return not step.optional and (not step.address or _is_main(field, step))


def _is_main(field: Field, step: Ask) -> bool:
    """Whether a line is one that no address does without."""
    return bool(step.address) and field.key.endswith(("_street", "_town"))


def _read(
    place: _Place, typed: Mapping[str, str], sent: Mapping[str, tuple[str, bytes]]
) -> tuple[dict[str, Value], dict[str, Examined], dict[str, str]]:
    """What was given, read by its fields, the files that do, and what is wrong, by field key."""
    values: dict[str, Value] = {}
    files: dict[str, Examined] = {}
    messages: dict[str, str] = {}
    for field in sorted(place.fields, key=lambda one: bool(one.settings.country_from)):
        try:
            if field.type.kind == "file":
                if field.key in sent:
                    files[field.key] = examine(field, *sent[field.key])
            else:
                values[field.key] = field.beside(values).parse(typed.get(field.key, "")[:_LONGEST])
        except ValueError as problem:
            messages[field.key] = str(problem.args[0]) if problem.args else "This does not fit."
    begun = any(value is not None for key, value in values.items() if not key.endswith("_country"))
    for field in place.fields:
        missing = field.key not in files and values.get(field.key) is None
        if missing and (_is_needed(field, place.step) or (begun and _is_main(field, place.step))):
            messages.setdefault(field.key, "Please answer this.")
    return values, files, messages
