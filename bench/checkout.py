"""A checkout of sixty questions under load: with its rules, without them, and a page of like HTML written by hand."""

import os
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from urllib.parse import urlencode
from urllib.request import Request, urlopen

from fastapi import FastAPI
from fastapi import Request as Asked
from sqlalchemy import create_engine, text
from starlette.responses import HTMLResponse, Response

from bench.by_hand import FORM_PAGE
from bench.forms import line, wait_for
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.composing import QuestionInput, add_questions, change_question
from finesieve.services.forms.forms import create_form, publish_form, read_form
from finesieve.services.kernel.scope import Scope
from finesieve.standins.shop.carts import put_into

__all__ = ["by_hand_app", "checkout_under_load", "serving"]

QUESTIONS, RULES, SURCHARGES, SHOPPERS, EACH, ROUNDS = 60, 40, 20, 20, 8, 3


def by_hand_app() -> FastAPI:
    """The same questions and the bill as one would write them by hand: two statements, a few checks, a template."""
    app, engine = FastAPI(), create_engine(os.environ["FINESIEVE_DATABASE_URL"])
    questions = [
        {"id": f"q{number}", "label": f"Fact {number}", "help": "", "unit": "", "options": []}
        for number in range(1, QUESTIONS + 2)
    ]

    @app.get("/healthz")
    def healthz() -> Response:
        return HTMLResponse("ready")

    @app.post("/answers")
    async def answers(request: Asked) -> Response:
        form = await request.form()
        given = {name[2:]: str(value) for name, value in form.items() if name.startswith("a_")}
        with engine.connect() as connection:
            connection.execute(text("SELECT id, name FROM workspace LIMIT 1")).one()
            connection.execute(text("SELECT count(*) FROM form WHERE id = 1")).one()
        charges = [("Extra", 2.5) for name in given if len(given[name]) > 3]
        page = FORM_PAGE.render(page="form", questions=questions, given=given, problems={}, csrf=form["token"])
        rows = "".join(f"<tr><td>{label}</td><td>£{amount:.2f}</td></tr>" for label, amount in charges)
        return HTMLResponse(f"{page}<table>{rows}</table>")

    return app


def _checkout(scope: Scope, title: str, fields: list[int], *, rules: bool) -> str:
    form = create_form(scope, title, "checkout")
    add_questions(scope, form, 0, fields)
    asked = [one for one in read_form(scope, form).document.questions if one.field_id in fields]
    for place, question in enumerate(asked if rules else ()):
        charges: tuple[dict[str, object], ...] = ()
        if place % 3 == 0:
            charges = ({"label": "More", "amount": f"length(order.bench_{place + 1}) * 0.35"},)
        show = f'cart.quantity > 1 and not order.bench_{place} = "no"' if 20 <= place < 20 + RULES else ""
        changed = QuestionInput(show_when=show, surcharges=charges)
        change_question(scope, form, read_form(scope, form).revision, question.id, changed)
    publish_form(scope, form, read_form(scope, form).revision)
    return read_form(scope, form).slug


@contextmanager
def serving(factory: str, url: str, port: int) -> Iterator[str]:
    """A server process of its own; gives its address."""
    environment = {**os.environ, "FINESIEVE_DATABASE_URL": url, "FINESIEVE_SECRET": "bench"}
    command = [sys.executable, "-m", "uvicorn", "--factory", factory, "--port", str(port), "--log-level", "error"]
    server = subprocess.Popen(command, env=environment)
    try:
        wait_for(f"http://127.0.0.1:{port}/healthz")
        yield f"http://127.0.0.1:{port}"
    finally:
        server.terminate()
        server.wait(10)


def _crowd(address: str, tokens: list[str]) -> list[float]:
    """The seconds of every answer of twenty shoppers at once."""
    times: list[float] = []

    def shopper(number: int) -> None:
        given = {f"a_q{place}": "Wren" for place in range(2, QUESTIONS + 2)}
        data = {
            "token": tokens[number],
            "delivery": "van",
            "payment": "card",
            "a_q1": f"p{number}@hedgerow.example",
            **given,
        }
        for _ in range(EACH):
            started = time.perf_counter()
            urlopen(Request(f"{address}/answers", urlencode(data).encode()), timeout=60).read()
            times.append(time.perf_counter() - started)

    threads = [threading.Thread(target=shopper, args=(number,)) for number in range(SHOPPERS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(times) == SHOPPERS * EACH, "not every answer was taken"
    return times


def checkout_under_load(scope: Scope, url: str, workspace: str) -> bool:
    """One answer's round trip, the 95th percentile of twenty shoppers at once."""
    group = read_catalogue(scope).groups_about("order")[0].id
    fields = [
        create_field(scope, group, FieldInput(label=f"Fact {number}", key=f"bench_{number}", type_key="short_text"))
        for number in range(1, QUESTIONS + 1)
    ]
    slugs = {rules: _checkout(scope, f"Bench {rules}", fields, rules=rules) for rules in (True, False)}
    with scope.transaction("owner") as unit:
        carts = [
            put_into(unit.session, unit.workspace_id, "", ("tool-kit", "", 2), unit.moment.now, more=True)
            for _ in range(SHOPPERS)
        ]
    port = 21_000 + os.getpid() % 2_000
    with (
        serving("finesieve.app:create_server", url, port) as ours,
        serving("bench.checkout:by_hand_app", url, port + 1) as theirs,
    ):
        found: dict[object, list[float]] = {True: [], False: [], "hand": []}
        for _ in range(ROUNDS):
            for rules, slug in slugs.items():
                here = f"{ours}/join/{workspace}/{slug}"
                pages = [urlopen(f"{here}?cart={cart}").read().decode() for cart in carts]
                found[rules] += _crowd(here, [page.split('name="token" value="')[1].split('"')[0] for page in pages])
            found["hand"] += _crowd(theirs, ["none"] * SHOPPERS)
    with_rules, without, by_hand = (statistics.quantiles(found[one], n=20)[18] for one in (True, False, "hand"))
    rules, hand, said = with_rules / without, with_rules / by_hand, f"p95 {with_rules * 1000:.0f} ms against"
    figure = f"{said} {without * 1000:.0f} ms = {rules:.2f} ×"
    kept = line("a checkout's answer, 20 shoppers, against no rules", figure, "at most 1.5 ×", rules <= 1.5)
    figure = f"{said} {by_hand * 1000:.0f} ms = {hand:.2f} ×"
    return kept & line("the same against a page written by hand", figure, "at most 3 ×", hand <= 3)
