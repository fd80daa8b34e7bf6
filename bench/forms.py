"""Speed of forms and of the language in the core, of the composer, and of the public form under load."""

import os
import random
import re
import statistics
import subprocess
import sys
import threading
import time
from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal
from functools import partial
from pathlib import Path
from urllib.parse import urlencode
from urllib.request import Request, urlopen
from zoneinfo import ZoneInfo

from starlette.testclient import TestClient

from finesieve.core.commerce.cart import Cart, CartLine
from finesieve.core.commerce.shop import Shop
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.forms.billing import bill_of
from finesieve.core.forms.definition import Form, Question, Section, Surcharge
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.rows import Situation
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.parser import parse
from finesieve.core.model.catalogue import Catalogue, Group, build_catalogue
from finesieve.core.model.checks import RangeCheck
from finesieve.core.values import Type
from finesieve.demo.shop import SHOP
from finesieve.services.forms.forms import create_form
from finesieve.services.kernel.scope import Scope
from finesieve.store.tables import FormRow

MOMENT = Moment(datetime(2026, 11, 26, 12, tzinfo=UTC), ZoneInfo("Europe/London"))
FORMULA = (
    'if(zone = "north", round(plot_length * plot_width * 1.25, 2), zone in ("hill", "south"), '
    "plot_length * 2 + plot_width, 0) + max(plot_length, plot_width, 3) - min(plot_length else 4, 12) / 7 + 12.5 * 3"
)
KINDS = ("choice", "number", "yes_no", "short_text", "date")
ANSWERS = {"choice": "north", "number": "4.5", "yes_no": "yes", "short_text": "Kale", "date": "1984-05-27"}


def a_form(questions: int, rules: int, checks: int) -> tuple[Form, Catalogue, dict[str, str]]:
    """A form over fields of five types, its first rules and checks spread over them; and answers to all of it."""
    zones = tuple(Option(name, name) for name in ("north", "hill", "south"))
    fields, items, answers = [], [], {}
    for number in range(1, questions + 1):
        kind = KINDS[number % 5]
        options = zones if kind == "choice" else ()
        fields.append(Field(number, f"f{number}", f"Field {number}", kind, 1, options=options))
        rule = _rule(number) if number > 6 and number <= 6 + rules else ""
        test = (RangeCheck(low=Decimal(1), high=Decimal(60)),) if kind == "number" and number <= 5 * checks else ()
        items.append(Question(id=f"q{number}", field_id=number, show_when=rule, checks=test))
        answers[f"q{number}"] = ANSWERS[kind]
    more = checks - sum(1 for item in items if item.checks)
    for place, item in enumerate(items):
        if more > 0 and not item.checks:
            condition = {"kind": "condition", "expression": f"f{item.field_id} is filled or f1 > 3"}
            items[place] = Question.model_validate({**item.model_dump(), "checks": [condition]})
            more -= 1
    catalogue = build_catalogue(1, ZoneInfo("UTC"), [Group(1, "All")], fields)
    return Form(title="Bench", sections=(Section(id="s1", items=tuple(items)),)), catalogue, answers


def _rule(number: int) -> str:
    first = number - 1 - (number - 1) % 5
    return f'f{first} = "north" or f{first + 1} > 3 and f{first + 2} is filled' if first >= 5 else "f1 > 3"


def a_second(run, seconds: float = 1.5) -> float:  # type: ignore[no-untyped-def]
    """How often something runs in a second, on this one core: the best of three stretches."""
    best = 0.0
    for _ in range(3):
        count, started = 0, time.process_time()
        while (spent := time.process_time() - started) < seconds / 3:
            run()
            count += 1
        best = max(best, count / spent)
    return best


def line(name: str, figure: str, bound: str, kept: bool) -> bool:
    print(f"{name}: {figure} ({bound}) {'kept' if kept else 'BROKEN'}")
    return kept


def core_speed() -> bool:
    """Forms and formulas in the core, one core."""
    kept = True
    for questions, rules, checks, least in ((20, 10, 10, 3_000), (200, 120, 40, 250)):
        form, catalogue, answers = a_form(questions, rules, checks)
        assert sum(1 for item in form.questions if item.show_when) == rules
        assert sum(len(item.checks) for item in form.questions) == checks
        prepared = prepare(form, catalogue)
        assert len(prepared.evaluate(answers, MOMENT).showing) > questions / 2
        often = a_second(partial(prepared.evaluate, answers, MOMENT))
        name = f"form of {questions} questions, {rules} rules, {checks} checks"
        kept &= line(name, f"{often:,.0f} a second", f"at least {least:,}", often >= least)
    kept &= checkout_speed()
    names = {
        "zone": Type("choice", ("north", "hill", "south"), "zone"),
        "plot_length": Type("number"),
        "plot_width": Type("number"),
    }
    assert len(FORMULA) >= 200
    spent = 1000 / a_second(lambda: (parse.cache_clear(), check(FORMULA, names)))
    kept &= line(f"checking a formula of {len(FORMULA)} characters", f"{spent:.2f} ms", "at most 5 ms", spent <= 5)
    typed = check("plot_length * plot_width * 1.2 + 3", names).typed
    assert typed is not None
    program, row = compile_python(typed), {"plot_length": Decimal("6"), "plot_width": Decimal("2.5")}

    def thousand() -> None:
        for _ in range(1_000):
            program(row, MOMENT)

    people = 1_000 * a_second(thousand)
    kept &= line(
        "a compiled arithmetic formula", f"{people:,.0f} people a second", "at least 400,000", people >= 400_000
    )
    slowest = slowest_text(names)
    return kept & line(
        "the slowest of 4,000 random and broken texts", f"{slowest:.1f} ms", "at most 50 ms", slowest <= 50
    )


def checkout_speed() -> bool:
    """A checkout of 60 questions, 40 rules and 20 surcharges worked out with a cart, its bill included."""
    form, catalogue, answers = a_form(60, 40, 10)
    shop = Shop.model_validate(SHOP)
    kinds: tuple[dict[str, object], ...] = (
        {"amount": "2.50"},
        {"amount": "cart.quantity * 0.35"},
        {"share": "2.5", "basis": "order_after", "taxed": False},
        {"share": "-1"},
    )
    items = tuple(
        item.model_copy(
            update={"surcharges": (Surcharge.model_validate({"label": "More", **kinds[place // 3 % 4]}),)}
            if place % 3 == 0
            else {}
        )
        for place, item in enumerate(form.questions)
    )
    form = form.model_copy(
        update={"channel": "checkout", "sections": (form.sections[0].model_copy(update={"items": items}),)}
    )
    prepared = prepare(form, replace(catalogue, shop=shop))
    offers = [shop.offer(one) for one in ("black-kale", "skirret", "tool-kit", "labels")]
    lines = tuple(CartLine(offer, 2) for offer in offers if offer is not None)
    day = MOMENT.now.date()

    def once() -> int:
        cart = Cart(shop, lines, shop.delivery[0], shop.payment[0], shop.place(), day)
        return bill_of(cart, prepared.evaluate(answers, MOMENT, Situation(cart=cart)).charges).total

    assert once() > sum(line.total for line in lines)
    often = a_second(once)
    name = "checkout of 60 questions, 40 rules, 20 surcharges, with its bill"
    return line(name, f"{often:,.0f} a second", "at least 700", often >= 700)


def slowest_text(names: dict[str, Type]) -> float:
    """Milliseconds that the checker takes at most for texts of any kind; each that seems slow is tried again."""
    chance = random.Random(7)
    signs = "()-+*/&<>=.,'\"# \n\t" + "abcxyz0123456789" + "andorifnotbetween"
    texts = ["".join(chance.choice(signs) for _ in range(chance.randrange(1, 400))) for _ in range(2_000)]
    for _ in range(2_000):
        start = chance.randrange(len(FORMULA))
        piece = chance.choice(["", "(", ")", " and ", "'", ",", "%", "((((((((", "not " * 40, FORMULA])
        texts.append(FORMULA[:start] + piece + FORMULA[start + chance.randrange(6) :])

    def spent(text: str) -> float:
        parse.cache_clear()
        started = time.process_time()
        check(text, names)
        return 1000 * (time.process_time() - started)

    times = [(spent(text), text) for text in texts]
    return max(min(took, *(spent(text) for _ in range(3))) for took, text in sorted(times)[-20:])


def composer_speed(scope: Scope, client: TestClient, slug: str) -> bool:
    """Opening the composer on a form of 200 questions."""
    form, _, _ = a_form(200, 0, 0)
    with scope.transaction("owner") as unit:
        known = [one.id for one in unit.catalogue.fields if one.stores and one.key != "signed_up_on"]
    assert len(known) >= 200, len(known)
    form_id = create_form(scope, "Two hundred")
    with scope.transaction("owner") as unit:
        row = unit.session.get(FormRow, form_id)
        assert row is not None
        keys = {one.id: one.key for one in unit.catalogue.fields}
        items = [
            {
                "kind": "question",
                "id": f"q{place}",
                "field_id": field_id,
                "show_when": f"{keys[known[0]]} is filled" if place % 2 else "",
            }
            for place, field_id in enumerate(known[:200], 1)
        ]
        row.draft = {**form.model_dump(mode="json"), "sections": [{"id": "s1", "items": items}]}
        unit.session.add(row)
    times = []
    for _ in range(5):
        started = time.perf_counter()
        answer = client.get(f"/w/{slug}/collect/{form_id}?q=q7")
        times.append(1000 * (time.perf_counter() - started))
        assert answer.status_code == 200 and answer.text.count("data-row") >= 200
    spent = statistics.median(times)
    return line("opening the composer on 200 questions", f"{spent:.0f} ms", "at most 400 ms", spent <= 400)


def under_load(url: str, workspace: str, with_rules: str, without: str, people: int = 20, each: int = 12) -> bool:
    """Twenty people at once against one real server process: the 95th percentile, with rules and without; memory."""
    port = 18_000 + os.getpid() % 2_000
    environment = {**os.environ, "FINESIEVE_DATABASE_URL": url, "FINESIEVE_SECRET": "bench"}
    command = [
        sys.executable,
        "-m",
        "uvicorn",
        "--factory",
        "finesieve.app:create_server",
        "--port",
        str(port),
        "--log-level",
        "error",
    ]
    server = subprocess.Popen(command, env=environment)
    base = f"http://127.0.0.1:{port}/join/{workspace}"
    try:
        wait_for(f"http://127.0.0.1:{port}/healthz")
        found = {slug: [] for slug in (with_rules, without)}  # type: dict[str, list[float]]
        for _ in range(3):
            for slug in found:
                found[slug] += _crowd(f"{base}/{slug}", people, each)
        ours, theirs = (statistics.quantiles(found[slug], n=20)[18] for slug in (with_rules, without))
        status = Path(f"/proc/{server.pid}/status").read_text()
        memory = int(re.search(r"VmRSS:\s+(\d+)", status)[1]) / 1024  # type: ignore[index]
    finally:
        server.terminate()
        server.wait(10)
    ratio = ours / theirs
    figure = f"p95 {ours * 1000:.0f} ms against {theirs * 1000:.0f} ms = {ratio:.2f} ×"
    kept = line("rule round trip, 20 people at once", figure, "at most 3 ×", ratio <= 3)
    return kept & line("memory of the server process after that", f"{memory:.0f} MiB", "at most 250 MiB", memory <= 250)


def wait_for(address: str) -> None:
    for _ in range(200):
        try:
            urlopen(address, timeout=1).close()
            return
        except OSError:
            time.sleep(0.1)
    raise RuntimeError("the server did not start")


def _crowd(address: str, people: int, each: int) -> list[float]:
    page = urlopen(address).read().decode()
    token = re.search(r'name="token" value="([^"]+)"', page)[1]  # type: ignore[index]
    times: list[float] = []

    def person(number: int) -> None:
        data = urlencode(
            {"token": token, "touched": "q1 q2", "a_q1": f"p{number}@hedgerow.example", "a_q2": "Wren"}
        ).encode()
        for _ in range(each):
            started = time.perf_counter()
            urlopen(Request(f"{address}/answers", data), timeout=30).read()
            times.append(time.perf_counter() - started)

    threads = [threading.Thread(target=person, args=(number,)) for number in range(people)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return times
