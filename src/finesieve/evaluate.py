"""Trying a formula outside the application: `finesieve eval`.

What only SQL needs is imported where it is needed, so that a formula is tried in half a second.
"""

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final
from zoneinfo import ZoneInfo

from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.fields.keys import key_problem
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.explain import Explained, explain
from finesieve.core.language.problems import Problem
from finesieve.core.language.typed import Typed
from finesieve.core.values import KINDS, Type, Value
from finesieve.localdb import LocalPostgres
from finesieve.settings import Settings, var_directory

if TYPE_CHECKING:
    from sqlalchemy import Engine

__all__ = ["Given", "by_python", "by_sql", "database", "read_given"]


TRIED: Final = tuple(kind for kind in KINDS if kind not in ("file", "secret", "collection"))
"""The types that fields of a trial can have."""


@dataclass(frozen=True, slots=True)
class Given:
    """The fields and the values of one made-up person."""

    names: Mapping[str, Type]
    values: Mapping[str, Value]


def read_given(fields_file: Path, values_file: Path) -> Given:
    """Read both files. Raises ValueError, with the reason, for what they may not hold."""
    fields, data = _object(fields_file), _object(values_file)
    names = {key: _type(key, settings) for key, settings in fields.items()}
    unknown = sorted(set(data) - set(names))
    if unknown:
        raise ValueError(f"{values_file}: no field is called {unknown[0]}")
    values = {}
    for key, value in data.items():
        try:
            values[key] = from_json(value, names[key])
        except ValueError as problem:
            raise ValueError(f"{values_file}: {key}: {problem}") from None
    return Given(names, values)


def _object(path: Path) -> dict[str, Any]:
    try:
        data = json.loads(path.read_text())
    except (json.JSONDecodeError, UnicodeDecodeError) as problem:
        raise ValueError(f"{path}: not JSON: {problem}") from None
    if not isinstance(data, dict):
        raise ValueError(f"{path}: an object is needed")
    return data


def _type(key: str, settings: Any) -> Type:
    problem = key_problem(key)
    if problem:
        raise ValueError(f"{key}: {problem}")
    if not isinstance(settings, dict) or settings.get("type") not in TRIED:
        raise ValueError(f"{key}: the type is one of {', '.join(TRIED)}")
    options = settings.get("options", [])
    if not isinstance(options, list) or not all(isinstance(option, str) and option for option in options):
        raise ValueError(f"{key}: options are a list of texts")
    return Type(settings["type"], tuple(options), key if settings["type"] in ("choice", "choices") else "")


def by_python(
    expression: str, given: Given, now: datetime, zone: ZoneInfo, *, explained: bool = False
) -> dict[str, Any]:
    """Check and work out in Python: `{"type", "value"}`, with `explain` if that is wanted, or `{"problems"}`."""
    checked = check(expression, given.names, zone=zone)
    if checked.typed is None:
        return _problems(checked.problems)
    moment = Moment(now, zone)
    result = _result(checked.typed, compile_python(checked.typed)(given.values, moment), zone)
    if explained:
        result["explain"] = _explain(explain(checked.typed, given.values, moment), expression, zone)
    return result


def _explain(part: Explained, expression: str, zone: ZoneInfo) -> dict[str, Any]:
    shown = part.value.astimezone(zone) if isinstance(part.value, datetime) else part.value
    found = {
        "text": expression[part.span.start : part.span.end],
        "type": part.kind,
        "value": to_json(shown),
        "decided": part.decided,
    }
    below = [_explain(inner, expression, zone) for inner in part.parts]
    return found | ({"parts": below} if below else {})


def by_sql(expression: str, given: Given, now: datetime, zone: ZoneInfo, engine: "Engine") -> dict[str, Any]:
    """The same in PostgreSQL."""
    from sqlalchemy import select
    from sqlmodel import Session

    from finesieve.store.by_python import by_python
    from finesieve.store.compiler import Columns, bound, compile_sql

    checked = check(expression, given.names, zone=zone)
    if checked.typed is None:
        return _problems(checked.problems)
    names = {key: bound(given.values.get(key), type_.kind) for key, type_ in given.names.items()}
    with Session(engine) as session:
        columns = Columns(names, lookup=by_python(session))
        value = session.execute(select(compile_sql(checked.typed, columns, Moment(now, zone)))).scalar_one()
    return _result(checked.typed, tuple(value) if isinstance(value, list) else value, zone)


def _result(typed: Typed, value: Value, zone: ZoneInfo) -> dict[str, Any]:
    shown = value.astimezone(zone) if isinstance(value, datetime) else value
    return {"type": typed.type.kind, "value": to_json(shown)}


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
    from finesieve.store.database import connect
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
