"""Ratios, each against a hand-written equivalent in the same run; speed of the core; pages of large setups.

1. Counting a segment of three conditions over 200,000 people through the
   service, against the SQL one would write by hand: at most 1.2 ×.
2. One rule round trip of the public form, against the same page whose form
   has no rules: at most 3 ×.
3. Three conditions over derived fields: at most 1.3 × the SQL by hand; a
   sieve of three meshes: at most 3 × one count.
4. Every kind of page of the office over all these people: at most 300 ms.
5. Long work over all of them holds nobody up for more than a second.
6. Every page of Define in a workspace of 400 fields, 60 record types and 300
   house values: at most 300 ms.
7. Somebody's account with 60 fields, 10 records and 20 orders: at most 3 × one
   by hand; member pages of 30 placeholders: at least 100 a second.
8. Compute and Sift over all these people: segments, their overlap and sizes,
   lists, an export; see bench/sifting.py.
9. Forms and formulas in the core, the composer on 200 questions, and twenty
   people at once against a real server process: see bench/forms.py.

Usage: python -m bench.run [--people N]
"""

import argparse
import re
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import text
from starlette.testclient import TestClient

from bench.by_hand import against_pages_by_hand
from bench.chat import chat
from bench.checkout import checkout_under_load
from bench.forms import composer_speed, core_speed, under_load
from bench.large import define_pages, make_large, sign_in
from bench.locks import long_work
from bench.members import members
from bench.pages import office_pages
from bench.sifting import sifting
from finesieve.app import create_app
from finesieve.demo.crowd import crowd
from finesieve.demo.load import DEMO_SLUG, load_demo
from finesieve.localdb import LocalPostgres
from finesieve.services.accounts.staff import SignedIn, StaffAccounts
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.composing import QuestionInput, change_question
from finesieve.services.forms.composing import add_question as ask
from finesieve.services.forms.forms import create_form, publish_form, read_form
from finesieve.services.kernel.scope import Scope, utc_now
from finesieve.services.kernel.searching import tend
from finesieve.services.sift.segments import (
    SegmentInput,
    change_segment,
    count_segment,
    create_segment,
    list_segments,
    read_segment,
)
from finesieve.settings import Settings
from finesieve.store.connection.database import Store, connect
from finesieve.store.migrate import migrate
from finesieve.store.reading.kept import forget

ROUNDS = 60


def alternating(first: Callable[[], object], second: Callable[[], object], rounds: int = ROUNDS) -> tuple[float, float]:
    """Seconds of both: the lower quartile of many rounds, run in turns so that a busy machine slows both alike."""
    times: tuple[list[float], list[float]] = ([], [])
    first(), second()
    for _ in range(rounds):
        for run, found in ((first, times[0]), (second, times[1])):
            started = time.perf_counter()
            run()
            found.append(time.perf_counter() - started)
    return statistics.quantiles(times[0], n=4)[0], statistics.quantiles(times[1], n=4)[0]


def report(name: str, ours: float, by_hand: float, most: float) -> bool:
    """One line of the result; whether it keeps its bound."""
    ratio = ours / by_hand
    kept = ratio <= most
    verdict = "kept" if kept else "BROKEN"
    print(f"{name}: {ours * 1000:.1f} ms against {by_hand * 1000:.1f} ms = {ratio:.2f} × (at most {most} ×) {verdict}")
    return kept


def segment_count(scope: Scope) -> bool:
    """Three conditions, one of them over a derived field."""
    expression = 'zone in ("north", "hill") and plot_length > 6 and swaps_seed'
    segment = create_segment(scope, "Bench")
    change_segment(scope, segment, 1, SegmentInput(name="Bench", expression=expression))
    columns = {key: field.column for key, field in read_catalogue(scope).by_key.items()}
    by_hand = text(
        f"SELECT count(*) FROM w_{scope.workspace_id}.person "
        f"WHERE {columns['zone']} IN ('north', 'hill') AND {columns['plot_length']} > 6 AND {columns['swaps_seed']}"
    )

    def hand_written() -> int:
        with scope.store.engine.connect() as connection:
            return int(connection.execute(by_hand).scalar_one())

    counted, expected = count_anew(scope, segment), hand_written()
    assert counted == expected, (counted, expected)
    ours, theirs = alternating(lambda: count_anew(scope, segment), hand_written)
    return report(f"segment of three conditions, {expected:,} people pass", ours, theirs, 1.2)


def count_anew(scope: Scope, segment: int) -> int | None:
    """The number of people in a segment, counted, not kept."""
    forget()
    return count_segment(scope, segment)


def derived_count(scope: Scope) -> bool:
    """Three conditions over derived fields, one of them over another derived field; by hand as exact."""
    expression = "plot_area > 30 and water_a_week >= 100 and plot_area / 2 < 90"
    segment = create_segment(scope, "Derived")
    change_segment(scope, segment, 1, SegmentInput(name="Derived", expression=expression))
    f = {key: field.column for key, field in read_catalogue(scope).by_key.items() if field.stores}

    def exact(value: str) -> str:
        """Ten digits after the point, and blank where it grows too large, as the language has it."""
        return f"NULLIF(NULLIF(least(greatest(round({value}, 10), -1e15), 1e15), 1e15), -1e15)"

    area = f"round({exact(f['plot_length'] + ' * ' + f['plot_width'])}, 1)"
    water = (
        f"CASE WHEN {f['watering']} = 'by hand' THEN {exact(f['litres_a_day'] + ' * 7')} WHEN {f['watering']} = 'drip' "
        f"THEN round({exact(exact(area + ' * 0.8') + ' * 7')}) WHEN {f['watering']} IS NULL THEN NULL ELSE 0 END"
    )
    by_hand = text(
        f"SELECT count(*) FROM w_{scope.workspace_id}.person WHERE {area} > 30 AND {water} >= 100 "
        f"AND {exact('(' + area + ' + 0e-40) / 2')} < 90"
    )

    def hand_written() -> int:
        with scope.store.engine.connect() as connection:
            return int(connection.execute(by_hand).scalar_one())

    counted, expected = count_anew(scope, segment), hand_written()
    assert counted == expected, (counted, expected)
    ours, theirs = alternating(lambda: count_anew(scope, segment), hand_written, rounds=16)
    return report(f"three conditions over derived fields, {expected:,} people pass", ours, theirs, 1.3)


def sieve(scope: Scope) -> bool:
    """A sieve of three meshes with all its trays, against one count of the same segment; moving a mesh asks nothing."""
    segment = next(one.id for one in list_segments(scope) if one.name == "Bench")

    def all_trays() -> None:
        forget()
        read_segment(scope, segment)

    ours, theirs = alternating(all_trays, lambda: count_anew(scope, segment), rounds=16)
    return report("a sieve of three meshes, all trays and the first who pass", ours, theirs, 3)


_ASKED = (
    "first_name", "last_name", "phone", "born", "gardener", "zone",
    "plot_length", "plot_width", "watering", "litres_a_day", "soil", "swaps_seed",
)  # fmt: skip


def make_form(scope: Scope, title: str, *, rules: bool) -> str:
    """A form of thirteen questions, with a rule on most of them or on none; gives its slug."""
    form = create_form(scope, title)
    for key in _ASKED:
        ask(scope, form, read_form(scope, form).revision, read_catalogue(scope).by_key[key].id)
    if rules:
        asked_about = {read_catalogue(scope).by_key[key].id for key in ("email", "first_name", "zone")}
        for question in read_form(scope, form).document.questions:
            if question.field_id in asked_about:
                continue
            asked = QuestionInput(show_when='zone is blank or zone in ("north", "hill") and first_name != "Nobody"')
            change_question(scope, form, read_form(scope, form).revision, question.id, asked)
    publish_form(scope, form, read_form(scope, form).revision)
    return read_form(scope, form).slug


def round_trip(scope: Scope, client: TestClient) -> bool:
    """What a changed answer costs the server, with rules and without."""

    def trip(slug: str) -> Callable[[], object]:
        page = client.get(f"/join/{DEMO_SLUG}/{slug}").text
        token = re.search(r'name="token" value="([^"]+)"', page)
        assert token
        data = {"token": token[1], "touched": "q1 q2", "a_q1": "wren@hedgerow.example", "a_q2": "Wren"}

        def post() -> None:
            answer = client.post(f"/join/{DEMO_SLUG}/{slug}/answers", data=data)
            assert answer.status_code == 200 and answer.text.count("data-question") > 8, answer.text[:300]

        return post

    with_rules = trip(make_form(scope, "With rules", rules=True))
    without = trip(make_form(scope, "Without rules", rules=False))
    ours, theirs = alternating(with_rules, without)
    return report("rule round trip of the public form", ours, theirs, 3)


def main() -> int:
    """Run all; 0 when every bound is kept."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--people", type=int, default=200_000)
    people = parser.parse_args().people
    server = LocalPostgres(Path(tempfile.mkdtemp(prefix="finesieve-bench-", dir="/var/tmp")))
    try:
        server.start()
        engine = connect(server.url, durable=False)
        migrate(engine)
        store = Store(engine)
        started = time.perf_counter()
        load_demo(store, people=2_000)
        print(f"demo house loaded in {time.perf_counter() - started:.1f} s (at most 20 s)")
        accounts = StaffAccounts(store, utc_now)
        scope = accounts.enter(DEMO_SLUG, SignedIn(1, "Bench", "")).scope
        started = time.perf_counter()
        added = crowd(scope, people)
        took = time.perf_counter() - started
        print(f"{people:,} people are in, with history and sendings: {added / took:,.0f} a second (10,000 are wanted)")
        started = time.perf_counter()
        tend(scope)
        print(f"indexes for searching made in {time.perf_counter() - started:.0f} s, holding nobody up")
        app = create_app(Settings(database_url=server.url, secret="bench", demo=True))
        with TestClient(app) as client:
            kept = [core_speed(), segment_count(scope), derived_count(scope), sieve(scope), round_trip(scope, client)]
            sign_in(client)
            kept.append(against_pages_by_hand(scope, client, "with-rules", engine, alternating, report))
            kept.append(members(store, TestClient(app), engine, alternating, report))
            kept.append(office_pages(client, scope))
            kept.append(sifting(scope, alternating, report))
            kept.append(under_load(server.url, DEMO_SLUG, "with-rules", "without-rules"))
            kept.append(checkout_under_load(scope, server.url, DEMO_SLUG))
            kept.append(chat(scope, client, server.url, DEMO_SLUG))
            kept.append(long_work(scope))
            large = make_large(accounts)
            within = accounts.enter(large, SignedIn(1, "Bench", "")).scope
            kept += [define_pages(client, large, within), composer_speed(within, client, large)]
        engine.dispose()
    finally:
        server.remove()
        shutil.rmtree(server.home, ignore_errors=True)
    return 0 if all(kept) else 1


if __name__ == "__main__":
    sys.exit(main())
