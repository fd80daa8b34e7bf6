"""Conversations: how many replies a second, a reply of fifty people at once, a script of three hundred lines opened."""

import os
import re
import statistics
import threading
import time
from typing import Any
from urllib.parse import urlencode
from urllib.request import Request, urlopen

from fastapi import FastAPI
from fastapi import Request as Asked
from sqlalchemy import create_engine, text
from starlette.responses import HTMLResponse, Response
from starlette.testclient import TestClient

from bench.checkout import serving
from bench.forms import a_second, line
from finesieve.core.chat.machine import advance, begin
from finesieve.core.chat.portable import localised_script
from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.script import Script
from finesieve.core.chat.turn import Reply
from finesieve.services.chat.holding import world_of
from finesieve.services.chat.scripts import create_script, list_scripts, publish_script
from finesieve.services.chat.writing import change_script_settings
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.scope import Scope

__all__ = ["by_hand_app", "chat"]

PEOPLE, ROUNDS = 50, 3
REPLIES = ("1", "about 6", "4", "2", "wren@hedgerow.example", "Wren", "1", "2")


def by_hand_app() -> FastAPI:
    """A page that stores the same reply as one would write it by hand: look the conversation up, add two lines."""
    app, engine = FastAPI(), create_engine(os.environ["FINESIEVE_DATABASE_URL"])
    with engine.begin() as connection:
        connection.execute(
            text(
                "CREATE TABLE IF NOT EXISTS talk_by_hand (id bigserial PRIMARY KEY, key text UNIQUE, state jsonb);"
                "CREATE TABLE IF NOT EXISTS said_by_hand "
                "(id bigserial PRIMARY KEY, talk bigint, said text, at timestamptz)"
            )
        )

    @app.get("/healthz")
    def healthz() -> Response:
        return HTMLResponse("ready")

    @app.post("/talk")
    async def talk(request: Asked) -> Response:
        form = await request.form()
        with engine.begin() as connection:
            found = connection.execute(
                text(
                    "INSERT INTO talk_by_hand (key, state) VALUES (:key, '{}') "
                    "ON CONFLICT (key) DO UPDATE SET key = :key RETURNING id"
                ),
                {"key": form["token"]},
            ).scalar_one()
            connection.execute(text("SELECT state FROM talk_by_hand WHERE id = :id FOR UPDATE"), {"id": found}).one()
            said = [{"talk": found, "said": one} for one in (str(form["text"]), "And then?")]
            connection.execute(text("INSERT INTO said_by_hand (talk, said, at) VALUES (:talk, :said, now())"), said)
            connection.execute(
                text("UPDATE talk_by_hand SET state = jsonb_build_object('last', CAST(:said AS text)) WHERE id = :id"),
                {"said": str(form["text"]), "id": found},
            )
        rows = "".join(f"<li><p>{one['said']}</p></li>" for one in said)
        return HTMLResponse(f'{rows}<form><input name="token" value="{form["token"]}"><input name="text"></form>')

    return app


def chat(scope: Scope, client: TestClient, url: str, workspace: str) -> bool:
    """All three; whether the bounds hold."""
    kept = _machine(scope)
    kept &= _long_script(scope, client, workspace)
    return _at_once(url, workspace) & kept


def _machine(scope: Scope) -> bool:
    with scope.reading("reader") as unit:
        (document,) = (one for one in _documents(scope) if one.title == "Plan my first bed")
        scripts = {"bed": PreparedScript(document, unit.catalogue)}
        world = world_of(unit, 0, confirmed=False)
        first = begin(scripts, "bed", world).state

        def conversation() -> None:
            state = first
            for number, reply in enumerate(REPLIES):
                state = advance(scripts, world, state, Reply(f"r{number}", reply)).state

        replies = a_second(conversation) * len(REPLIES)
    return line("replies taken by the machine", f"{replies:,.0f} a second", "at least 5,000", replies >= 5_000)


def _documents(scope: Scope) -> list[Script]:
    from finesieve.services.chat.scripts import read_script

    return [read_script(scope, one.id).document for one in list_scripts(scope)]


def _long_script(scope: Scope, client: TestClient, workspace: str) -> bool:
    steps: list[dict[str, Any]] = []
    fields = [one.key for one in read_catalogue(scope).stored if one.type_key == "number"]
    for number in range(1, 301, 3):
        back = f"l{max(1, number - 6)}"
        steps += [
            {"kind": "say", "id": f"l{number}", "texts": [{"text": "Hello {first_name}."}]},
            {"kind": "ask", "id": f"l{number + 1}", "field": fields[number % len(fields)], "text": "How much?"},
            {"kind": "choose", "id": f"l{number + 2}", "text": "On?", "replies": [
                {"id": f"b{number}", "label": "Yes"}, {"id": f"b{number + 1}", "label": "No", "to": back}]},
        ]  # fmt: skip
    script = create_script(scope, "Three hundred lines")
    document = Script.model_validate(localised_script({"title": "Long", "steps": steps}, read_catalogue(scope)))
    change_script_settings(scope, script, 0, document.model_dump(mode="json"))
    publish_script(scope, script)
    times = []
    for _ in range(7):
        started = time.perf_counter()
        assert client.get(f"/w/{workspace}/collect/chat/{script}").status_code == 200
        times.append(time.perf_counter() - started)
    middle = statistics.median(times) * 1000
    return line("a script of 300 lines opened", f"{middle:.0f} ms", "at most 400 ms", middle <= 400)


def _at_once(url: str, workspace: str) -> bool:
    port = 23_000 + os.getpid() % 2_000
    with (
        serving("finesieve.app:create_server", url, port) as ours,
        serving("bench.chat:by_hand_app", url, port + 1) as theirs,
    ):
        addresses = {"ours": f"{ours}/chat/{workspace}/plan-my-first-bed", "hand": f"{theirs}/talk"}
        found: dict[str, list[float]] = {"ours": [], "hand": []}
        for name, address in addresses.items():
            _crowd(address, f"{name}-first", 1)  # servers that are in use; a fresh one's first replies take longer
        for number in range(ROUNDS):
            for name, address in addresses.items():
                found[name] += _crowd(address, f"{name}-{number}-conversation", PEOPLE)
    mine, hand = (statistics.quantiles(found[one], n=20)[18] for one in ("ours", "hand"))
    figure = f"p95 {mine * 1000:.0f} ms against {hand * 1000:.0f} ms = {mine / hand:.2f} ×"
    return line("a reply, 50 people at once, against a page by hand", figure, "at most 3 ×", mine / hand <= 3)


def _crowd(address: str, name: str, people: int) -> list[float]:
    """The seconds of every reply of so many people at once."""
    times: list[float] = []

    def person(number: int) -> None:
        token = f"{name}-{number}-of-nobody-in-particular"
        for place, reply in enumerate(REPLIES):
            said = reply.replace("wren", f"{name}{number}")
            data = {"token": token, "key": f"k{place}", "text": said, **({"begins": "1"} if not place else {})}
            asked = Request(
                address, urlencode(data).encode(), {"HX-Request": "true", "X-Forwarded-For": f"10.0.0.{number}"}
            )
            started = time.perf_counter()
            body = urlopen(asked, timeout=60).read().decode()
            took = time.perf_counter() - started
            assert re.search(r"<li", body), body[:300]
            times.append(took)

    threads = [threading.Thread(target=person, args=(number,)) for number in range(people)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(times) == people * len(REPLIES), "not every reply was taken"
    return times
