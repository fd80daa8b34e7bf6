"""What members see: their account against a page of like HTML written by hand, and how many member pages a second."""

import re
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from fastapi import FastAPI, Request
from jinja2 import Environment
from sqlalchemy import Engine, text
from starlette.responses import HTMLResponse, Response
from starlette.testclient import TestClient

from bench.by_hand import FORM_PAGE
from finesieve.core.commerce.shop import Shop
from finesieve.services.accounts.staff import NewWorkspace, SignedIn, StaffAccounts
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.composing import SectionInput, add_question, add_questions, add_section, change_section
from finesieve.services.forms.forms import publish_form, read_form
from finesieve.services.kernel.scope import Scope, utc_now
from finesieve.services.pages.editing import create_page, publish_page, read_page_view, save_page
from finesieve.services.pages.reading import PublicPages
from finesieve.services.people.accounts import send_link_to
from finesieve.services.people.records import add_record
from finesieve.services.values.writing import add_person
from finesieve.store.connection.database import Store, one_reading
from finesieve.store.tables import OrderRow

__all__ = ["members"]

FIELDS, RECORDS, ORDERS, SECONDS = 60, 10, 20, 3
_PAGE = Environment(autoescape=True).from_string(Path(__file__).with_name("account.html").read_text())


def members(store: Store, client: TestClient, engine: Engine, alternating: Callable[..., tuple[float, float]],
            report: Callable[[str, float, float, float], bool]) -> bool:  # fmt: skip
    """The account page of somebody with much, against one by hand; member pages a second. Whether both bounds hold."""
    accounts = StaffAccounts(store, utc_now, fast_hashes=True)
    staff = accounts.add_staff(f"members{time.time_ns()}@brackenfold.example", "Maud Ellery", "a long password")
    slug = accounts.create_workspace(NewWorkspace(name=f"Members {time.time_ns()}"), staff)
    scope = accounts.enter(slug, SignedIn(staff, "Maud Ellery", "")).scope
    person, plots = _furnish(scope)
    _sign_in(scope, client, slug, person)
    here = TestClient(_by_hand(engine, scope, plots, person))
    path = f"/join/{slug}/your-account"
    ours, theirs = client.get(path), here.get("/account")
    assert ours.status_code == theirs.status_code == 200
    print(f"an account page: {len(ours.text):,} signs, by hand {len(theirs.text):,}")
    kept = report(
        "an account against one by hand", *alternating(lambda: client.get(path), lambda: here.get("/account")), 3
    )
    return _pages(scope, slug, person) and kept


def _furnish(scope: Scope) -> tuple[int, int]:
    """Somebody with sixty values, ten plots and twenty orders, and an account that shows them."""
    group = read_catalogue(scope).groups[0].id
    fields = [
        create_field(scope, group, FieldInput(label=f"Fact {number}", type_key=("short_text", "number")[number % 2]))
        for number in range(FIELDS)
    ]
    plots = create_record_type(scope, RecordTypeInput(singular="Plot", plural="Plots", holder="Holder"))
    about = read_catalogue(scope).groups_about(f"record:{plots}")[0].id
    sizes = [
        create_field(scope, about, FieldInput(label=one, type_key="number")) for one in ("Length", "Width", "Beds")
    ]
    form = create_account_form(scope, "Your account")

    def do(change: Callable[..., object], *rest: object) -> None:
        change(scope, form, read_form(scope, form).revision, *rest)

    do(add_questions, fields)
    do(add_section, "Plots")
    section = read_form(scope, form).document.sections[-1].id
    do(change_section, section, SectionInput(title="Plots", repeat=str(plots), most=20, one="Plot"))
    for size in sizes:
        do(add_question, size, section)
    do(publish_form)
    set_up_shop(scope, Shop.model_validate({"country": "GB", "payment": [{"key": "card", "label": "Card"}]}))
    keys = {one.id: one for one in read_catalogue(scope).fields}
    with scope.transaction("owner") as unit:
        values = {keys[one].key: keys[one].parse(str(place), None) for place, one in enumerate(fields, 1)}
        person = add_person(unit, {"email": "wren@hedgerow.example", "first_name": "Wren", **values}, "staff")
        for number in range(1, ORDERS + 1):
            line = {
                "key": "line1", "label": "Seed", "kind": "goods", "amount": 500, "off": 0, "tax": 0, "pieces": 1,
                "rate": None,
            }  # fmt: skip
            bill = {"mode": "included", "decimals": 2, "lines": [line], "taxes": [], "delivery": "", "payment": "card"}
            unit.session.add(
                OrderRow(
                    workspace_id=unit.workspace_id, number=number, key=str(number), form_id=form, person_id=person,
                    state="sent", bill=bill, total=500, placed_at=datetime(2026, 1, number, tzinfo=UTC),
                )
            )  # fmt: skip
    link = read_catalogue(scope).record_types_by_id[plots].links[0].id
    for number in range(RECORDS):
        values = {"name": f"A{number}", "length": "8", "width": str(number + 1), "beds": "3"}
        add_record(scope, plots, values, {link: [person]})
    return person, plots


def _sign_in(scope: Scope, client: TestClient, slug: str, person: int) -> None:
    send_link_to(scope, person)
    token = read_outbox(scope).letters[0].link.partition("link=")[2]
    client.post(f"/account/{slug}/enter", data={"link": token})


def _by_hand(engine: Engine, scope: Scope, plots: int, person_id: int) -> FastAPI:
    app, schema, catalogue = FastAPI(), f"w_{scope.workspace_id}", read_catalogue(scope)
    stored = [one for one in catalogue.stored if one.label.startswith("Fact") or one.built_in]
    columns = ", ".join(one.column for one in stored)
    about = [one for one in catalogue.fields_about(f"record:{plots}") if one.stores]
    of_plots = ", ".join(f"p.{one.column} AS {one.key}" for one in about)
    link = catalogue.record_types_by_id[plots].links[0].id
    questions = [
        {"id": f"q{one.id}", "label": one.label, "help": one.help, "unit": one.unit, "options": []} for one in stored
    ]

    @app.get("/account")
    def account(request: Request) -> Response:
        with engine.connect() as connection:
            entering = text("SELECT set_config('finesieve.workspace', :w, true)")
            connection.execute(entering, {"w": str(scope.workspace_id)})
            connection.execute(text("SELECT person_id FROM member_session ORDER BY id DESC LIMIT 1")).scalar_one()
            mine = {"person": person_id}
            row = connection.execute(text(f"SELECT {columns} FROM {schema}.person WHERE id = :person"), mine).one()
            query = text(
                f"SELECT p.id, {of_plots} FROM {schema}.record_{plots} p JOIN {schema}.link l ON l.record_id = p.id "
                f"WHERE l.link_id = {link} AND l.target_id = :person ORDER BY p.id"
            )
            held = connection.execute(query, mine).mappings().all()
            bought = text(
                "SELECT id AS token, number, placed_at, state, total FROM shop_order WHERE person_id = :person "
                "ORDER BY id DESC LIMIT 50"
            )
            orders = connection.execute(bought, mine).mappings().all()
        given = {f"q{one.id}": "" if value is None else str(value) for one, value in zip(stored, row, strict=True)}
        form = FORM_PAGE.render(page="form", questions=questions, given=given, problems={}, csrf="by hand")
        shown = [
            {"id": one["id"], "name": one["name"], "values": {key: one[key] for key in one if key != "id"}}
            for one in held
        ]
        return HTMLResponse(_PAGE.render(house="House", name="Wren", form=form, plots=shown, orders=orders))

    return app


def _pages(scope: Scope, slug: str, person: int) -> bool:
    """Member pages of thirty placeholders, ten of them over collections, read one after the other on one core."""
    plain = " ".join(f"{{fact_{number}}}" for number in range(20))
    over = " ".join(f"{{round(sum(plots.length * plots.width) / {number}, 1)}}" for number in range(1, 6))
    over += (
        " {count(plots)} {max(plots.width)} {average(plots.beds)} {min(plots.length)} {count(plots where width > 3)}"
    )
    over = over.replace("sum(plots.length * plots.width)", "sum(plots.width)")
    page = create_page(scope, "Your plots")
    document = {"title": "Your plots", "blocks": [{"text": plain}, {"text": over}]}
    save_page(scope, page, read_page_view(scope, page).revision, document)
    publish_page(scope, page)
    public, read, until = PublicPages(scope.store, utc_now), 0, time.perf_counter() + SECONDS
    opened = public.open(slug, "your-plots", person)
    assert opened is not None and len(re.findall(r"\d", str(opened.blocks))) > 20
    started = time.perf_counter()
    while time.perf_counter() < until:
        with one_reading() as reading:  # as within a request
            public.open(slug, "your-plots", person)
            reading.end()
        read += 1
    rate = read / (time.perf_counter() - started)
    verdict = "kept" if rate >= 100 else "BROKEN"
    print(f"member pages of 30 placeholders, 10 of them over collections: {rate:.0f} a second (at least 100) {verdict}")
    return rate >= 100
