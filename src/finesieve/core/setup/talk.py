"""A chat script of a setup, held by files alone: one reply after the other, without a database."""

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any, Final, Literal
from zoneinfo import ZoneInfo

from finesieve.core.chat.journal import Amounts, State, fold
from finesieve.core.chat.machine import Scripts, advance, begin
from finesieve.core.chat.prepare import PASSING, PreparedScript
from finesieve.core.chat.records import is_new
from finesieve.core.chat.script import Ask
from finesieve.core.chat.turn import Reply, Turn
from finesieve.core.chat.world import TalkWorld, amount_on, member_of, talk_row
from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.encoding import Json, from_json, to_json
from finesieve.core.fields.manner import PLAIN
from finesieve.core.forms.rows import Situation
from finesieve.core.language.program import Moment
from finesieve.core.setup.document import Setup
from finesieve.core.setup.workspace import workspace_of
from finesieve.core.values import Value

__all__ = ["Talk"]

_SEED: Final = 1


class Talk:
    """A conversation by a script of a file, with a person who is confirmed, or with a stranger.

    What is written at a commit point is, from then on, stored of the person, as it would be.
    """

    def __init__(
        self,
        setup: Setup,
        slug: str,
        now: datetime,
        *,
        person: Mapping[str, Any] | None = None,
        channel: Literal["web", "text"] = "web",
        language: str = "",
        zone: str = "UTC",
    ) -> None:
        """Raises InvalidInput where the file does not hold together, has no such script, or a value does not fit."""
        manner = replace(PLAIN, zone=ZoneInfo(zone))
        workspace = workspace_of(setup, manner)
        if slug not in workspace.scripts:
            known = ", ".join(workspace.scripts) or "none"
            raise InvalidInput({"script": f"There is no script “{slug}” in the file; there are: {known}."})
        self._catalogue = workspace.catalogue
        self.scripts: Scripts = {
            key: PreparedScript(script, workspace.catalogue) for key, script in workspace.scripts.items()
        }
        moment = Moment(now, workspace.catalogue.zone, {}, workspace.catalogue.manner)
        self._moment = replace(moment, house=workspace.house_at(moment, {}))
        self._known = person is not None
        blank: dict[str, Value] = {one.key: None for one in workspace.catalogue.stored_about(PERSON)}
        given = dict(person or {})
        self._records = self._records_of(given.pop("records", {}))
        self._stored = {**blank, "tags": (), "lists": (), "level": None, **self._values(given, PERSON, "person")}
        self._slug, self._channel = slug, channel
        self._language = language or workspace.scripts[slug].languages[0]
        self._replies = 0
        self.state: State

    def _records_of(self, given: Mapping[str, Any]) -> dict[str, dict[int, dict[str, Value]]]:
        """The records of the person, numbered from 1, by the name of their collection."""
        links = self._catalogue.collections_of(PERSON)
        found: dict[str, dict[int, dict[str, Value]]] = {}
        for name, members in given.items():
            if name not in links:
                raise InvalidInput({"person": f"records.{name}: a person has no records of this name."})
            about = record_about(links[name].record_type_id)
            found[name] = {
                number: self._values(member, about, f"records.{name}.{number - 1}")
                for number, member in enumerate(members, 1)
            }
        return found

    def _values(self, given: Mapping[str, Any], about: str, place: str) -> dict[str, Value]:
        fields = self._catalogue.keys_of(about)
        found: dict[str, Value] = {}
        for key, data in given.items():
            if about == PERSON and key in ("tags", "lists"):
                found[key] = tuple(data)
            elif about == PERSON and key == "level":
                found[key] = data
            elif key not in fields:
                raise InvalidInput({"person": f"{place}.{key}: there is no such field."})
            else:
                try:
                    found[key] = from_json(data, fields[key].value_type)
                except ValueError as why:
                    raise InvalidInput({"person": f"{place}.{key}: {why}."}) from None
        return found

    @property
    def _world(self) -> TalkWorld:
        records = {name: tuple(held.items()) for name, held in self._records.items()}
        return TalkWorld(self._moment, Situation(self._stored, records, known=self._known), confirmed=self._known)

    def results(self, replies: Iterable[str]) -> Iterator[dict[str, Any]]:
        """What the house says first, and then after each reply: a JSON object each."""
        yield self._said(self._began())
        for text in replies:
            self._replies += 1
            yield self._said(self._took(self._read(text)))

    def _read(self, line: str) -> Reply:
        """A reply as it is typed; or as a JSON object, a button that is pressed or what is given on a page: values by
        the key of their field. Raises InvalidInput."""
        key, place = f"r{self._replies}", f"reply {self._replies}"
        try:
            data = json.loads(line) if line.lstrip().startswith("{") else None
        except ValueError:
            data = None
        if not isinstance(data, dict) or len(data) != 1 or not data.keys() & {"button", "given"}:
            return Reply(key, line)
        if "button" in data:
            return Reply(key, button=str(data["button"]))
        if not isinstance(data["given"], dict):
            raise InvalidInput({"replies": f"{place}: what is given are values by the key of their field."})
        script = self.scripts[self.state.place[0] or self.state.script]
        step = script.flow.by_id.get(self.state.place[1])
        asked = {one.key: one for one in script.page_fields(step)} if isinstance(step, Ask) else {}
        given: dict[str, Json] = {}
        for name, value in data["given"].items():
            if name not in asked:
                raise InvalidInput({"replies": f"{place}: {name} is not asked there."})
            try:
                if asked[name].type.kind != "secret":  # a secret is written before the machine hears of it
                    given[name] = to_json(asked[name].from_kept(value))
            except ValueError as why:
                raise InvalidInput({"replies": f"{place}: {name}: {why}."}) from None
        return Reply(key, given=given)

    def _began(self) -> Turn:
        return begin(
            self.scripts, self._slug, self._world, language=self._language, channel=self._channel, seed=_SEED,
            person_id=1 if self._known else 0,
        )  # fmt: skip

    def _took(self, reply: Reply) -> Turn:
        turn = advance(self.scripts, self._world, self.state, reply)
        if turn.restarts:
            began = self._began()
            return replace(began, understood=turn.understood)
        return turn

    def _write(self, amounts: Amounts, about: str, values: dict[str, Value]) -> None:
        fields = self._catalogue.keys_of(about)
        for key, (how, data) in amounts.items():
            values[key] = amount_on(fields[key], values.get(key), how, data)

    def _write_record(self, name: str, amounts: Amounts) -> None:
        """Write what was said about a record; one that is new has the next number."""
        collection, _, number = name.partition(":")
        held = self._records.setdefault(collection, {})
        if is_new(name):
            number = str(self.state.record_ids.get(name) or max(held, default=0) + 1)
            self.state.record_ids = {**self.state.record_ids, name: int(number)}
        about = record_about(self._catalogue.collections_of(PERSON)[collection].record_type_id)
        self._write(amounts, about, held.setdefault(int(number), {}))

    def _said(self, turn: Turn) -> dict[str, Any]:
        self.state = turn.state
        if turn.effects is not None and self._known:
            self._write(turn.effects.person, PERSON, self._stored)
            for name, amounts in turn.effects.records.items():
                self._write_record(name, amounts)
        script = self.scripts[turn.state.place[0] or turn.state.script]
        row, moment = talk_row(script, self._world, turn.state)
        line = script.flow.numbers.get(turn.state.place[1], 0)
        return {
            "messages": [_message(one) for one in turn.messages],
            "offers": [
                {
                    "number": place,
                    "label": one.label,
                    "kind": one.kind,
                    **({"target": one.target} if one.target else {}),
                }
                for place, one in enumerate(turn.offers, 1)
            ],
            "expects": turn.expects["kind"] if turn.expects else None,
            "understood": turn.understood,
            "values": _values_of(self.scripts, turn.state, row, moment) | self._of_records(turn.state, moment),
            "line": line or None,
            "mode": turn.state.mode,
            **({"quiet": turn.quiet} if turn.quiet else {}),
            **({"written": _written(turn)} if turn.effects else {}),
        }

    def _of_records(self, state: State, moment: Moment) -> dict[str, Any]:
        """What was answered about records, by the name of the record."""
        script, made = self.scripts[state.script], fold(state.journal)
        found: dict[str, Any] = {}
        for name, amounts in made.records.items():
            member = member_of(script, self._world, state, made, name, moment)
            found |= {f"{name}.{key}": to_json(member.get(key)) for key in amounts}
        return found


def _message(one: Any) -> dict[str, Any]:
    found: dict[str, Any] = {"text": one.text, "kind": one.kind}
    if one.lines:
        found["answers"] = [{"label": label, "value": value} for label, value in one.lines]
    if any(one.link):
        found["link"] = {"label": one.link[0], "to": one.link[1]}
    if one.picture:
        found["picture"] = one.picture
    return found


def _values_of(scripts: Scripts, state: State, row: Mapping[str, Value], moment: Moment) -> dict[str, Any]:
    """What was answered and made so far, by key: of the person, the house, and in passing."""
    script = scripts[state.place[0] or state.script]
    found: dict[str, Any] = {}
    for entry in state.journal:
        for key in entry.person:
            found[key] = to_json(row.get(key))
        for key in entry.house:
            found[f"house.{key}"] = to_json(moment.house.get(key))
        for name in entry.passing:
            slug, _, key = name.partition(":")
            if scripts.get(slug) is script and key in script.passing:
                found[f"{PASSING}.{key}"] = to_json(row.get(f"form.{key}"))
        for name in ("tags", "lists"):
            if getattr(entry, name):
                found[name] = to_json(row.get(name))
    return found


def _written(turn: Turn) -> dict[str, Any]:
    effects = turn.effects
    assert effects is not None
    parts = {
        "person": {key: list(one) for key, one in effects.person.items()},
        "house": {key: list(one) for key, one in effects.house.items()},
        "records": {
            name: {key: list(one) for key, one in amounts.items()} for name, amounts in effects.records.items()
        },
        "tags": dict(effects.tags), "lists": dict(effects.lists), "sends": list(effects.sends),
    }  # fmt: skip
    return {name: value for name, value in parts.items() if value}
