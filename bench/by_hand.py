"""Pages and a sending as one would write them by hand: the same rows and like HTML, through the same client."""

import json
import re
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from jinja2 import Environment
from sqlalchemy import Engine, text
from starlette.responses import HTMLResponse, RedirectResponse, Response
from starlette.testclient import TestClient

from finesieve.demo.load import DEMO_SLUG
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.forms import list_forms, read_form
from finesieve.services.kernel.scope import Scope
from finesieve.services.people.listing import list_people

__all__ = ["FORM_PAGE", "against_pages_by_hand"]

FORM_PAGE = Environment(autoescape=True).from_string(Path(__file__).with_name("by_hand.html").read_text())
_ENTER = text("SELECT set_config('finesieve.workspace', :w, true)")


def _application(engine: Engine, scope: Scope, form_id: int) -> FastAPI:
    app, schema = FastAPI(), f"w_{scope.workspace_id}"
    catalogue, document = read_catalogue(scope), read_form(scope, form_id).document
    fields = {q.id: catalogue.by_id[q.field_id] for q in document.questions}
    questions = [
        {"id": place, "label": f.label, "help": f.help, "unit": f.unit,
         "options": [(o.stored_value, o.label) for o in f.options]}
        for place, f in fields.items()
    ]  # fmt: skip
    columns = ", ".join(f.column for f in catalogue.stored)
    chosen = [catalogue.by_key[key] for key in ("email", "born", "gardener", "signed_up_on")]
    listed = ", ".join(f.column for f in chosen)

    @app.post("/answers")
    async def answers(request: Request) -> Response:
        form = await request.form()
        given = {name[2:]: str(value) for name, value in form.items() if name.startswith("a_")}
        with engine.connect() as connection:
            connection.execute(text("SELECT id, name FROM workspace WHERE slug = :s"), {"s": DEMO_SLUG}).one()
            connection.execute(_ENTER, {"w": str(scope.workspace_id)})
            connection.execute(text("SELECT id, published FROM form WHERE id = :i"), {"i": form_id}).one()
        problems, shown = {}, []
        for question in questions:
            field = fields[question["id"]]
            raw = given.get(question["id"], "")
            if field.key in ("watering", "plot_length") and given.get("q4") == "south":
                continue
            shown.append(question)
            if field.type_key == "number" and raw and not re.fullmatch(r"-?[0-9]+([.,][0-9]+)?", raw):
                problems[question["id"]] = "Write a number."
        return HTMLResponse(
            FORM_PAGE.render(page="form", questions=shown, given=given, problems=problems, csrf=form["token"])
        )

    @app.get("/people")
    def people() -> Response:
        with engine.connect() as connection:
            number = connection.execute(text(f"SELECT reltuples FROM pg_class WHERE oid = '{schema}.person'::regclass"))
            query = f"SELECT id, f2 || ' ' || f3 AS name, {listed} FROM {schema}.person ORDER BY id DESC LIMIT 50"
            rows = connection.execute(text(query)).mappings().all()
            title = f"{number.scalar_one():,.0f} people"
        return HTMLResponse(
            FORM_PAGE.render(
                page="list", title=title, rows=rows, columns=chosen, fields=catalogue.stored, csrf="by hand"
            )
        )

    @app.get("/people/{person_id}")
    def profile(person_id: int) -> Response:
        with engine.connect() as connection:
            query = text(f"SELECT {columns} FROM {schema}.person WHERE id = :id")
            row = connection.execute(query, {"id": person_id}).one()
            connection.execute(_ENTER, {"w": str(scope.workspace_id)})
            past = text(
                "SELECT id, field_id, old, new, source, at FROM history WHERE about = 'person' AND entity_id = :id "
                "ORDER BY id DESC LIMIT 200"
            )
            lines = connection.execute(past, {"id": person_id}).all()
        values = [(field, field.show(value)) for field, value in zip(catalogue.stored, row, strict=True)]
        return HTMLResponse(
            FORM_PAGE.render(
                page="profile",
                title="Somebody",
                id=person_id,
                values=values,
                lines=lines,
                by_id=catalogue.by_id,
                csrf="",
            )
        )

    _add_sending(app, engine, scope, form_id, {place: field.column for place, field in fields.items()})
    return app


def _add_sending(app: FastAPI, engine: Engine, scope: Scope, form_id: int, columns: Mapping[str, str]) -> None:
    schema, by_key = f"w_{scope.workspace_id}", read_catalogue(scope).by_key
    kept_by_itself = ("signed_up_on", "preferred_language", "first_seen", "last_seen")
    signed_up, language, first, last = (by_key[key].column for key in kept_by_itself)

    @app.post("/send")
    async def send(request: Request) -> Response:
        form = await request.form()
        given = {name[2:]: str(value) for name, value in form.items() if name.startswith("a_")}
        now = datetime.now(UTC)
        stored: dict[str, Any] = {
            columns[place]: value for place, value in given.items() if value and place in ("q1", "q2", "q3")
        }
        stored |= {signed_up: now.date(), language: "en", first: now, last: now}
        with engine.begin() as connection:
            connection.execute(_ENTER, {"w": str(scope.workspace_id)})
            arrived = text(
                "INSERT INTO arrivals (workspace_id, who, since, times) VALUES (:w, 'by hand', date_trunc('hour', "
                "now()), 1) ON CONFLICT (workspace_id, who, since) DO UPDATE SET times = arrivals.times + 1"
            )
            connection.execute(arrived, {"w": scope.workspace_id})
        with engine.begin() as connection:
            connection.execute(_ENTER, {"w": str(scope.workspace_id)})
            known = text(
                f"SELECT id FROM {schema}.person WHERE finesieve.fold({columns['q1']}) = finesieve.fold(:email)"
            )
            assert connection.execute(known, {"email": given["q1"]}).first() is None
            names = ", ".join(stored)
            places = ", ".join(f":{name}" for name in stored)
            made = connection.execute(
                text(f"INSERT INTO {schema}.person ({names}) VALUES ({places}) RETURNING id"), stored
            )
            person = made.scalar_one()
            line = text(
                "INSERT INTO history (workspace_id, about, entity_id, field_id, old, new, source, actor, at) VALUES "
                "(:w, 'person', :p, :f, NULL, CAST(:v AS jsonb), 'form', 'the person', now())"
            )
            lines = [
                {
                    "w": scope.workspace_id,
                    "p": person,
                    "f": int(name[1:].partition("_")[0]),
                    "v": json.dumps(value, default=str),
                }
                for name, value in stored.items()
            ]
            connection.execute(line, lines)
            sent = text(
                "INSERT INTO submission (workspace_id, form_id, version, key, person_id, state, answers, records, "
                "charges, received_at) VALUES (:w, :f, 1, :k, :p, 'stored', CAST(:a AS jsonb), '[]', '[]', now())"
            )
            connection.execute(
                sent,
                {"w": scope.workspace_id, "f": form_id, "k": str(form["token"]), "p": person, "a": json.dumps(given)},
            )
            connection.execute(text(f"UPDATE {schema}.state SET version = version + 1 WHERE slot = 1"))
        return RedirectResponse("/thanks", 303)


def against_pages_by_hand(
    scope: Scope, client: TestClient, slug: str, engine: Engine,
    alternating: Callable[..., tuple[float, float]], report: Callable[[str, float, float, float], bool],
) -> bool:  # fmt: skip
    """The public round trip, the list, a profile and a sending against the same by hand; whether all bounds hold."""
    form_id = next(form.id for form in list_forms(scope) if form.slug == slug)
    with TestClient(_application(engine, scope, form_id), follow_redirects=False) as here:
        return _compare(scope, client, here, slug, alternating, report)


def _compare(
    scope: Scope, client: TestClient, here: TestClient, slug: str,
    alternating: Callable[..., tuple[float, float]], report: Callable[[str, float, float, float], bool],
) -> bool:  # fmt: skip
    join, office = f"/join/{DEMO_SLUG}/{slug}", f"/w/{DEMO_SLUG}"
    data: dict[str, Any] = {"touched": "q1 q2", "a_q1": "wren@hedgerow.example", "a_q2": "Wren", "a_q3": "Ash"}

    def token() -> str:
        found = re.search(r'name="token" value="([^"]+)"', client.get(join).text)
        assert found
        return found[1]

    opened = token()
    person = list_people(scope, limit=1).lines[0].id
    tokens = iter([token() for _ in range(400)])
    numbers = iter(range(10_000, 20_000))

    def sent(where: TestClient, path: str) -> None:
        number = next(numbers)
        asked = [f"q{place}" for place in range(1, 40)]
        form = {**data, "token": next(tokens), "asked": asked, "a_q1": f"s{number}@hedgerow.example"}
        answer = where.post(path, data=form, follow_redirects=False)
        assert answer.status_code == 303, answer.text[:500]

    def same(ours: str, theirs: str, most: float, what: str, posted: dict[str, Any] | None = None) -> bool:
        def ask(where: TestClient, path: str) -> Callable[[], object]:
            def run() -> None:
                answer = where.post(path, data=posted) if posted else where.get(path)
                assert answer.status_code == 200, (path, answer.status_code)

            return run

        return report(what, *alternating(ask(client, ours), ask(here, theirs)), most)

    def send(where: TestClient, path: str) -> Callable[[], object]:
        return lambda: sent(where, path)

    answered = {**data, "token": opened}
    sendings = alternating(send(client, join), send(here, "/send"), rounds=16)
    kept = [
        same(f"{join}/answers", "/answers", 1.8, "the public round trip against a page by hand", answered),
        same(f"{office}/people", "/people", 3, "the list of people against one by hand"),
        same(f"{office}/people/{person}", f"/people/{person}", 3, "a profile against one by hand"),
        report("a sending against one by hand", *sendings, 2),
    ]
    return all(kept)
