"""Trying a formula outside the application: `finesieve eval`; and what a form reads out of a text: `finesieve read`.

What only SQL needs is imported where it is needed, so that a formula is tried in half a second.
"""

import json
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from finesieve.core.errors import FineSieveError
from finesieve.core.fields.about import HOUSE
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.fields.keys import key_problem
from finesieve.core.fields.manner import manner_of
from finesieve.core.fields.types import TYPES
from finesieve.core.forms.wording import wording_without_form
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.explain import Explained, explain
from finesieve.core.language.history import past_line
from finesieve.core.language.names import Place, World
from finesieve.core.language.problems import Problem
from finesieve.core.language.typed import HISTORY, Typed
from finesieve.core.values import KINDS, Secret, Structured, Type, Value, sound_text
from finesieve.localdb import LocalPostgres
from finesieve.places import var_directory
from finesieve.settings import Settings

if TYPE_CHECKING:
    from sqlalchemy import Engine

__all__ = ["Case", "Given", "by_python", "by_sql", "database", "read_as", "read_case", "read_given", "run_cases"]


TRIED: Final = tuple(kind for kind in KINDS if kind not in ("file", "secret", "collection"))
"""The types that fields of a trial can have."""
_CASE_PARTS: Final = frozenset(("expression", "fields", "values", "records", "house", "history", "now", "zone"))


@dataclass(frozen=True, slots=True)
class Given:
    """What is in reach of a trial: the names, and the values of one made-up person, with their records."""

    world: World
    values: Mapping[str, Value]
    house: Mapping[str, Value] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Case:
    """One trial: an expression, what is given, and when and where."""

    expression: str
    given: Given
    moment: Moment


def read_given(fields_file: Path, values_file: Path) -> Given:
    """Read both files. Raises ValueError, with the reason, for what they may not hold."""
    fields, data = _object(fields_file), _object(values_file)
    names = _types(fields)
    try:
        return Given(World.of(names), _values(data, names))
    except ValueError as problem:
        raise ValueError(f"{values_file}: {problem}") from None


def read_case(line: str, now: datetime, zone: ZoneInfo) -> Case:
    """One line of a file of cases, at a moment and in a zone unless it names its own. Raises ValueError."""
    try:
        data = json.loads(line)
    except (json.JSONDecodeError, RecursionError) as problem:
        raise ValueError(f"not JSON: {problem}") from None
    data = _dict(data, "a case")
    unknown = sorted(set(data) - _CASE_PARTS)
    if unknown or not isinstance(data.get("expression"), str):
        raise ValueError(f"a case has no “{unknown[0]}”" if unknown else "a case needs an expression, a text")
    names = _types(_dict(data.get("fields", {}), "fields"))
    values = _values(_dict(data.get("values", {}), "values"), names)
    records = {key: _dict(one, key) for key, one in _dict(data.get("records", {}), "records").items()}
    places = {key: Place(f"record:{key}", _types(_dict(one.get("fields", {}), key))) for key, one in records.items()}
    for key, one in records.items():
        if (key != "orders" and key_problem(key)) or key in names:
            raise ValueError(f"{key}: {key_problem(key) or 'it is a field too'}")
        rows = one.get("of", [])
        if not isinstance(rows, list):
            raise ValueError(f"{key}: “of” is a list of records")
        members: Any = tuple(_values(_dict(row, key), places[key].names) for row in rows)
        values[key] = members
    house = _dict(data.get("house", {}), "house")
    house_names = _types(_dict(house.get("fields", {}), "house"))
    base = Place("person", names, {key: place.about for key, place in places.items()})
    kinds = {place.about: place for place in places.values()}
    world = World(base, kinds, prefixes={HOUSE: house_names}, remembered=frozenset(names))
    values |= _history(_dict(data.get("history", {}), "history"), names)
    given = Given(world, values, _values(_dict(house.get("values", {}), "house"), house_names))
    moment = read_moment(str(data["now"])) if data.get("now") else now
    return Case(data["expression"], given, Moment(moment, read_zone(data["zone"]) if data.get("zone") else zone))


def _history(data: Mapping[str, Any], names: Mapping[str, Type]) -> dict[str, Any]:
    """The changes of values, `{"zone": [{"at": ISO, "old": value, "new": value}]}`, as a row has them."""
    found = {}
    for key, lines in data.items():
        if key not in names or not isinstance(lines, list):
            raise ValueError(f"history: {key} is no field, or has no list of changes")
        changes = [_dict(line, f"history of {key}") for line in lines]
        found[HISTORY + key] = tuple(
            past_line(read_moment(str(one.get("at"))), one.get("old"), one.get("new"), names[key], {})
            for one in changes
        )
    return found


def read_moment(text: str) -> datetime:
    """A moment in ISO form; without an offset it is in UTC. Raises ValueError."""
    moment = datetime.fromisoformat(text)
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def read_zone(name: object) -> ZoneInfo:
    """A time zone by its name. Raises ValueError."""
    try:
        return ZoneInfo(str(name))
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"No time zone is called {name}.") from None


def _object(path: Path) -> dict[str, Any]:
    try:
        data = json.loads(path.read_text())
    except (json.JSONDecodeError, UnicodeDecodeError, RecursionError) as problem:
        raise ValueError(f"{path}: not JSON: {problem}") from None
    return _dict(data, str(path))


def _dict(data: Any, what: str) -> dict[str, Any]:
    if not isinstance(data, dict):
        raise ValueError(f"{what}: an object is needed")
    return data


def _types(fields: Mapping[str, Any]) -> dict[str, Type]:
    return {key: _type(key, settings) for key, settings in fields.items()}


def _values(data: Mapping[str, Any], names: Mapping[str, Type]) -> dict[str, Value]:
    unknown = sorted(set(data) - set(names))
    if unknown:
        raise ValueError(f"no field is called {unknown[0]}")
    found = {}
    for key, value in data.items():
        try:
            found[key] = _entered(from_json(value, names[key]))
        except ValueError as problem:
            raise ValueError(f"{key}: {problem}") from None
    return found


def _entered(value: Value) -> Value:
    """A value as entry makes it: texts composed, an option once. Raises ValueError for what no text can hold."""
    if isinstance(value, str):
        return sound_text(value) or None
    if isinstance(value, tuple):
        return tuple(dict.fromkeys(sound_text(item) for item in value if item)) or None
    if isinstance(value, Structured):
        sound_text(json.dumps(value.data, ensure_ascii=False).replace("\\u0000", "\x00"))
    return value


def _type(key: str, settings: Any) -> Type:
    problem = key_problem(key)
    if problem:
        raise ValueError(f"{key}: {problem}")
    if not isinstance(settings, dict) or settings.get("type") not in TRIED:
        raise ValueError(f"{key}: the type is one of {', '.join(TRIED)}")
    options = settings.get("options", [])
    if not isinstance(options, list) or not all(isinstance(option, str) and option for option in options):
        raise ValueError(f"{key}: options are a list of texts")
    options = [sound_text(option) for option in options]
    return Type(settings["type"], tuple(options), key if settings["type"] in ("choice", "choices") else "")


def by_python(case: Case, *, explained: bool = False) -> dict[str, Any]:
    """Check and work out in Python: `{"type", "value"}`, with `explain` if that is wanted, or `{"problems"}`."""
    zone = case.moment.zone
    checked = check(case.expression, case.given.world, zone=zone)
    if checked.typed is None:
        return _problems(checked.problems)
    moment = replace(case.moment, house=case.given.house)
    result = _result(checked.typed, compile_python(checked.typed)(case.given.values, moment), zone)
    if explained:
        result["explain"] = _explain(explain(checked.typed, case.given.values, moment), case.expression, zone)
    return result


def run_cases(lines: Iterable[str], now: datetime, zone: ZoneInfo, engine: "Engine | None") -> Iterator[dict[str, Any]]:
    """The result of each case, in order; `{"error"}` for a line that is none. In PostgreSQL with an engine."""
    for line in lines:
        try:
            case = read_case(line, now, zone)
        except ValueError as problem:
            yield {"error": str(problem)}
            continue
        try:
            yield by_python(case) if engine is None else by_sql(case, engine)
        except FineSieveError as problem:
            yield {"error": str(problem)}


def _explain(part: Explained, expression: str, zone: tzinfo) -> dict[str, Any]:
    shown = _local(part.value, zone)
    found = {
        "text": expression[part.span.start : part.span.end],
        "type": part.kind,
        "value": to_json(shown),
        "decided": part.decided,
    }
    below = [_explain(inner, expression, zone) for inner in part.parts]
    return found | ({"parts": below} if below else {})


def by_sql(case: Case, engine: "Engine") -> dict[str, Any]:
    """The same in PostgreSQL."""
    from sqlalchemy import select
    from sqlalchemy.exc import DBAPIError
    from sqlmodel import Session

    from finesieve.store.connection.database import mapped
    from finesieve.store.language.by_python import by_python
    from finesieve.store.language.compiler import Columns, bound, compile_sql
    from finesieve.store.language.written import written_collections, written_history

    zone, given = case.moment.zone, case.given
    checked = check(case.expression, given.world, zone=zone)
    if checked.typed is None:
        return _problems(checked.problems)
    names = {key: bound(given.values.get(key), type_.kind) for key, type_ in given.world.base.names.items()}
    moment = replace(case.moment, house=given.house)
    with Session(engine) as session:
        collect = written_collections(given.world, given.values)
        columns = Columns(names, None, collect, lookup=by_python(session), past=written_history(given.values))
        try:
            value = session.execute(select(compile_sql(checked.typed, columns, moment))).scalar_one()
        except DBAPIError as problem:
            raise mapped(problem) from problem
    return _result(checked.typed, tuple(value) if isinstance(value, list) else value, zone)


def _result(typed: Typed, value: Value, zone: tzinfo) -> dict[str, Any]:
    return {"type": typed.type.kind, "value": to_json(_local(value, zone))}


def _local(value: Value, zone: tzinfo) -> Value:
    """A moment as the clocks of the zone show it, where they can."""
    try:
        return value.astimezone(zone) if isinstance(value, datetime) else value
    except OverflowError:
        return value


def _problems(problems: tuple[Problem, ...]) -> dict[str, Any]:
    return {
        "problems": [
            {
                "code": problem.code,
                "start": problem.span.start,
                "end": problem.span.end,
                "message": problem.message,
                "hint": problem.hint,
            }
            for problem in problems
        ]
    }


@contextmanager
def database() -> Iterator["Engine"]:
    """The database of FINESIEVE_DATABASE_URL, or else the working copy's own, started for the while."""
    from finesieve.store.connection.database import connect
    from finesieve.store.migrate import migrate

    url = Settings().database_url
    if url:
        engine = connect(url)
        yield engine
        engine.dispose()
        return
    postgres = LocalPostgres(var_directory() / "postgres")
    postgres.start()
    try:
        engine = connect(postgres.url)
        migrate(engine)
        yield engine
        engine.dispose()
    finally:
        postgres.stop()


_NEED_MORE: Final = frozenset(("choice", "choices", "progress", "record", "file", "picture"))
"""Types whose answers are told by more than the text: options, records, files."""


def read_as(kind: str, text: str, language: str, country: str, moment: datetime, zone: ZoneInfo) -> dict[str, Any]:
    """The value of a text as a field of this type reads it, or the problem that a form would say.

    Raises ValueError for a type, a language or a country that there is not.
    """
    key = {"text": "short_text", "birthday": "day_of_year"}.get(kind, kind)
    if key not in TYPES or not TYPES[key].stores or key in _NEED_MORE:
        known = ", ".join(name for name, one in TYPES.items() if one.stores and name not in _NEED_MORE)
        raise ValueError(f"type: “{kind}” cannot be read by itself; there are: {known}")
    manner = manner_of(language, country, zone)
    asked = Field(0, kind, kind, key, 0, manner=manner)
    try:
        value = asked.parse(text, today=moment.astimezone(zone).date())
    except ValueError as problem:
        return {"problem": wording_without_form(manner.language[:2])(problem.args[0])}
    return {"value": "set" if isinstance(value, Secret) else to_json(value)}
