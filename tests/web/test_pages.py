"""Every route: walls, roles, forged changes, bad input, headers."""

import re
import unittest
from datetime import date
from decimal import Decimal
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlmodel import select

import finesieve
from finesieve.core.fields.manner import write_day, write_figure
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import read_draft, read_form
from finesieve.services.kernel.ledger import change_manner
from finesieve.services.kernel.manner import MannerInput
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import set_values
from finesieve.services.sift.segments import list_segments, read_segment
from finesieve.store.connection.database import Store
from finesieve.store.tables import Membership
from tests.support.database import store
from tests.support.furnished import OFFICE, Furnished, routes
from tests.support.house import House, make_house
from tests.support.site import Office, visitor

FOR_EDITORS = re.compile(
    r"/several$|/people/write$|records/\{type_id:int\}/new|/files/|/prepared/|tags/family|tags/remove|values\.csv|/delete$|/gather$"
)
"""Pages that begin a change, or take values out; and files, of which there are none."""


class Walls(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.theirs = Furnished()
        cls.mine = Furnished()
        cls.office = Office(cls.mine.house)

    def test_there_are_routes(self) -> None:
        self.assertGreater(len(OFFICE), 30)

    def test_another_workspace_cannot_be_entered(self) -> None:
        """Every office route of a workspace one does not belong to is simply not there."""
        for method, path in OFFICE:
            with self.subTest(f"{method} {path}"):
                answer = self.office.client.request(method, self.theirs.address(path), data=self.data(method))
                self.assertEqual(answer.status_code, 404)
                self.assertNotIn("Their", answer.text)

    def test_ids_of_another_workspace_lead_nowhere(self) -> None:
        """In one's own workspace, the ids of another's things are not there, and nothing of it shows or changes."""
        before = self.picture()
        for method, path in OFFICE:
            if "{" not in path.removeprefix("/w/{slug}") or "submission" in path or path.endswith("{page_name:str}"):
                continue
            address = self.theirs.address(path).replace(self.theirs.house.slug, self.mine.house.slug)
            with self.subTest(f"{method} {path}"):
                answer = self.office.client.request(
                    method, address, data=self.data(method) | {"name": "X", "label": "X", "formula": "1"}
                )
                if "/people/{person_id:int}" in path:
                    continue  # each workspace counts its people from 1
                self.assertIn(answer.status_code, (404, 409, 422))
                self.assertNotIn("Their", answer.text)
        self.assertEqual(self.picture(), before)

    def data(self, method: str) -> dict[str, str]:
        return (
            {"csrf": self.office.csrf, "revision": "1", "change": "1", "field": "1", "group": "1"}
            if method == "POST"
            else {}
        )

    def picture(self) -> list[object]:
        scope = self.theirs.house.scope
        return [
            [(field.id, field.label, field.group_id, field.formula) for field in read_catalogue(scope).fields],
            read_form(scope, self.theirs.form), list_segments(scope), read_segment(scope, self.theirs.segment).revision,
            list_people(scope).lines,
        ]  # fmt: skip

    def test_nobody_signed_in_sees_nothing(self) -> None:
        """Every office route leads a stranger to the sign-in page, and back again for pages."""
        stranger = visitor()
        for method, path in OFFICE:
            answer = stranger.request(method, self.mine.address(path))
            with self.subTest(f"{method} {path}"):
                self.assertEqual(answer.status_code, 303)
                self.assertTrue(answer.headers["location"].startswith("/sign-in"))

    def test_changes_need_the_secret_of_the_session(self) -> None:
        """A change without the secret, with another's, or from another site is not made."""
        before = self.mine_picture()
        for method, path in OFFICE:
            if method != "POST":
                continue
            address = self.mine.address(path)
            for data, headers in (
                ({}, {}),
                ({"csrf": "another's"}, {}),
                ({"csrf": self.office.csrf}, {"Origin": "http://elsewhere.example"}),
                ({"csrf": self.office.csrf}, {"Sec-Fetch-Site": "cross-site"}),
            ):
                with self.subTest(f"{path} {data}"):
                    answer = self.office.client.post(address, data=data, headers=headers)
                    self.assertEqual(answer.status_code, 403)
        self.assertEqual(self.mine_picture(), before)

    def mine_picture(self) -> list[object]:
        scope = self.mine.house.scope
        return [
            read_form(scope, self.mine.form),
            list_segments(scope),
            read_catalogue(scope).fields,
            list_people(scope),
        ]

    def test_a_reader_changes_nothing(self) -> None:
        """With the role reader every page shows, without its buttons of change, and every change is refused."""
        furnished = Furnished()
        office = Office(furnished.house)
        with Store(store().engine).transaction() as session:
            member = session.get(Membership, (furnished.house.scope.workspace_id, self.staff_id(furnished.house)))
            assert member is not None
            member.role = "reader"
        for method, path in OFFICE:
            answer = office.client.request(
                method, furnished.address(path), data={"csrf": office.csrf, "revision": "1", "change": "1", "field": "1", "group": "1", "name": "X", "label": "X", "title": "X", "formula": "1"}
            ) if method == "POST" else office.client.get(furnished.address(path))  # fmt: skip
            with self.subTest(f"{method} {path}"):
                if method == "GET" and FOR_EDITORS.search(path):
                    self.assertIn(answer.status_code, (403, 404))
                elif method == "GET":
                    self.assertIn(answer.status_code, (200, 303))
                    self.assertNotIn('class="btn">New', answer.text)
                elif not path.endswith(
                    ("/preview", "/rehearse", "/try")
                ):  # these show what would be, and change nothing
                    self.assertIn(answer.status_code, (403, 404, 409, 422))
        self.assertEqual(read_segment(furnished.house.scope, furnished.segment).name, "Their segment")
        self.assertIsNone(
            next((field for field in read_catalogue(furnished.house.scope).fields if field.label == "X"), None)
        )

    def staff_id(self, house: House) -> int:
        from sqlmodel import col

        from finesieve.store.tables import Staff

        with store().transaction() as session:
            return session.exec(select(Staff.id).where(col(Staff.email) == house.email)).one() or 0


class BadInput(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.mine = Furnished()
        cls.office = Office(cls.mine.house)
        names = set()
        for path in Path(finesieve.__file__).parent.rglob("*.html"):
            names |= set(re.findall(r'name="([a-z_]+)"', path.read_text()))
        cls.names = sorted(
            names
            | {"order", "move", "clauses", "c0_key", "c0_relation", "c0_value", "c0_quoted", "a_q1", "v_zone"}
            | {
                "show_when",
                "show_when_clauses",
                "show_when_c0_key",
                "show_when_c0_relation",
                "show_when_c0_value",
                "required_when",
            }
            | {
                "checks",
                "check0_kind",
                "check0_low",
                "check0_high",
                "check0_pattern",
                "check0_low_way",
                "check0_low_day",
                "check_kind",
            }
            | {
                "check0_low_amount",
                "check0_expression",
                "check0_check_id",
                "charges",
                "charge0_label",
                "charge0_amount",
                "flag",
                "when0",
            }
            | {
                "repeat",
                "least",
                "most",
                "count",
                "as_person",
                "as_day",
                "as_level",
                "as_page",
                "case",
                "a_s1",
                "a_q2",
                "language",
            }
        )

    @settings(max_examples=500, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    @given(st.data())
    def test_generated_posts_get_a_clear_answer(self, data: st.DataObject) -> None:
        """Missing, surplus, oversized, wrongly typed or hostile inputs never give 5xx, on any route."""
        hostile = st.sampled_from(
            [
                "",
                "-1",
                "9" * 30,
                "1e999",
                "NaN",
                "\x00",
                "' OR 1=1 --",
                "<script>",
                "{{7*7}}",
                "../../etc",
                "x" * 6_000,
                "٣",
                "a\r\nb",
                "1:up",
                "1,2,3",
                "add",
                "remove:0",
                "show_when_add",
                "addcheck",
                "dropcharge:0",
                "range",
                "date",
                "condition",
                "before",
                "zone",
                "\U0001f331",
            ]
        )
        method, path = data.draw(st.sampled_from([route for route in routes() if route[0] == "POST"]))
        if path == "/sign-out":
            return
        body = data.draw(
            st.dictionaries(st.sampled_from(self.names), st.one_of(hostile, st.text(max_size=30)), max_size=8)
        )
        body = {name: value.encode("utf-8", "replace").decode() for name, value in body.items()}
        if data.draw(st.booleans()):
            body["revision"] = "1"
        answer = self.office.client.request(method, self.mine.address(path), data={**body, "csrf": self.office.csrf})
        self.assertLess(answer.status_code, 500, f"{path} {body}")

    def test_odd_addresses(self) -> None:
        """Parameters of addresses beyond sense get 404 or 422."""
        for rest in (
            "define/999999999999999999999", "people/0", "people/99999999999999999999999", "sift/1/tray/-1/passes", "people?before=x",
            "people?before=99999999999999999999999", "find?q=%00", "people?q=%00%ff", "define/x", "sift/1?done=99999999999999999999",
            f"sift/{self.mine.segment}?done=%D9%A3", f"collect/{self.mine.form}?q=%00", f"people/{self.mine.person}?edit=%D9%A3&history=%00",
            f"people/{self.mine.person}?edit=%C2%B2", f"sift/{self.mine.segment}?done=%C2%B2",
        ):  # fmt: skip
            with self.subTest(rest):
                self.assertLess(self.office.get(rest).status_code, 500)

    def test_tampered_sentences(self) -> None:
        """A quoted formula that does not parse is kept and said; digits that are none count as nothing."""
        mine = Furnished()
        office = Office(mine.house)
        for data in (
            {"clauses": "1", "c0_quoted": "1 +"},
            {"clauses": "1", "c0_quoted": ""},
            {"clauses": "²", "action": "remove:²"},
            {"clauses": "1", "c0_key": "zone", "c0_relation": "=", "c0_value": "north", "action": "up:²"},
        ):
            for rest in (f"sift/{mine.segment}/meshes", f"collect/{mine.form}/parts/q1"):
                self.assertLess(office.post(rest, {"revision": "1", **data}).status_code, 500, f"{rest} {data}")
        self.assertIn(
            "1 +",
            office.post(f"sift/{mine.segment}/meshes", {"revision": "2", "clauses": "1", "c0_quoted": "1 +"}).text,
        )

    def test_an_unknown_kind_of_check(self) -> None:
        """In the library and at a question: refused with 422, and nothing is kept."""
        revision = str(read_draft(self.mine.house.scope, self.mine.form).revision)
        part = f"collect/{self.mine.form}/parts/q1"
        check = {"revision": revision, "checks": "1", "check0_kind": "nonsense", "check0_low": "1"}
        for path, data, status in (
            ("collect/checks", {"name": "X", "check_kind": "nonsense", "check_low": "1"}, 422),
            (part, check, 422),
            (part, {"revision": revision, "action": "addcheck", "new_check": "nonsense"}, 200),
            (part, {"revision": revision, "checks": "1", "check0_low": "1"}, 303),
        ):
            with self.subTest(path):
                self.assertEqual(self.office.post(path, data).status_code, status)

    def test_numbers_in_addresses_have_an_end(self) -> None:
        for rest in ("define/", "people/", "sift/"):
            self.assertEqual(self.office.get(rest + "9" * 5_000).status_code, 404)

    def test_a_decision_must_be_made(self) -> None:
        """A held sign-up is not set aside by a button that said nothing."""
        self.assertEqual(self.office.post("people/decisions/1", {}).status_code, 422)

    def test_bodies_that_are_no_form(self) -> None:
        """Another kind, a file, too much, too many: each has its own status."""
        address = f"/join/{self.mine.house.slug}/join-us"
        client = visitor()
        self.assertEqual(client.post(address, json={"a": 1}).status_code, 415)
        self.assertIn(client.post(address, files={"a_q1": ("x.txt", b"x")}).status_code, (400, 422))
        self.assertEqual(client.post(address, data={"a_q1": "x" * 1_200_000}).status_code, 413)
        self.assertEqual(client.post(address, data={f"a_q{n}": "x" for n in range(6_500)}).status_code, 400)
        self.assertEqual(
            client.post(
                address, content=b"\xff\xfe", headers={"content-type": "application/x-www-form-urlencoded"}
            ).status_code,
            422,
        )
        self.assertEqual(client.put(address).status_code, 405)

    def test_what_was_typed_is_kept(self) -> None:
        """After an error every input holds what was typed, escaped."""
        typed = '<b>"Bed"</b>'
        mine = Furnished()
        office = Office(mine.house)
        answer = office.post(
            "define/new",
            {"about": "person", "label": typed, "key": "and", "type_key": "choice", "options": "A\nB", "help": "why"},
        )
        self.assertEqual(answer.status_code, 422)
        for part in (
            "&lt;b&gt;&#34;Bed&#34;&lt;/b&gt;",
            "A\nB",
            'value="why"',
            'value="choice"\nchecked',
            "word of the expression language",
        ):
            self.assertIn(part, answer.text)
        self.assertNotIn(typed, answer.text)
        answer = office.post("sift/new", {"name": ""})
        self.assertEqual(answer.status_code, 422)
        answer = office.post(f"sift/{mine.segment}", {"revision": "1", "expression": "plot_lenght > 1"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("plot_lenght &gt; 1", answer.text)
        self.assertIn("use plot_length", " ".join(answer.text.split()))
        answer = office.post(f"compute/{mine.derived}", {"label": "Sum", "formula": "plot_length +"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("plot_length +</textarea>", answer.text)

    def test_checks_are_said_as_they_are_named_and_written(self) -> None:
        """The words beside a question keep the case of a name and a pattern."""
        mine = Furnished()
        scope, form = mine.house.scope, mine.form
        add_question(scope, form, read_draft(scope, form).revision, mine.house.field_id("favourite"))
        checks = ({"kind": "named", "check_id": mine.check}, {"kind": "pattern", "pattern": "[A-F]X?"})
        change_question(scope, form, read_draft(scope, form).revision, "q2", QuestionInput(checks=checks))
        shown = Office(mine.house).get(f"collect/{mine.form}").text
        for words in ("Must pass “Plot code”", "Must match [A-F]X?"):
            self.assertIn(words, shown)


class Doors(unittest.TestCase):
    def test_headers(self) -> None:
        """Every answer has the strict policy; pages are not cached, static files may be."""
        client = visitor()
        for path in ("/sign-in", "/healthz", "/no-such-page", "/static/app.css"):
            headers = client.get(path).headers
            self.assertIn("script-src 'self'; style-src 'self'", headers["content-security-policy"])
            self.assertEqual(headers["x-content-type-options"], "nosniff")
        self.assertEqual(client.get("/sign-in").headers["cache-control"], "no-store")
        self.assertNotIn("cache-control", client.get("/static/app.css").headers)
        self.assertIn("immutable", client.get("/static/app.css?v=1").headers["cache-control"])

    def test_health(self) -> None:
        answer = visitor().get("/healthz")
        self.assertEqual((answer.status_code, answer.json()), (200, {"status": "ready", "worker": "silent"}))

    def test_signing_in_leads_only_to_our_own_pages(self) -> None:
        """Nobody is led elsewhere by a prepared sign-in address."""
        house = make_house(fields=False)
        for target, leads in (
            ("/w/x/", "/w/x/"),
            ("//elsewhere.example", "/"),
            ("https://elsewhere.example", "/"),
            ("/\\elsewhere", "/"),
        ):
            answer = visitor().post(
                "/sign-in", data={"email": house.email, "password": "a long enough secret", "next": target}
            )
            self.assertEqual(answer.headers["location"], leads)
            cookie = answer.headers["set-cookie"].lower()
            self.assertTrue("httponly" in cookie and "samesite=lax" in cookie)
        answer = visitor().post("/sign-in", data={"email": house.email, "password": "wrong"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn(house.email, answer.text)
        self.assertEqual(
            visitor().post("/sign-in", data={}, headers={"Origin": "http://elsewhere.example"}).status_code, 403
        )

    def test_the_front_door(self) -> None:
        """Who belongs to one workspace stands in it at once; who belongs to several chooses."""
        office = Office(make_house(fields=False))
        self.assertEqual(office.client.get("/").headers["location"], office.path())
        office.client.post(
            "/workspaces", data={"csrf": office.csrf, "name": f"Second {office.house.slug}", "zone": "UTC"}
        )
        self.assertEqual(office.client.get("/").headers["location"], "/workspaces")
        self.assertEqual(visitor().get("/").headers["location"], "/sign-in")

    def test_signing_out(self) -> None:
        office = Office(make_house(fields=False))
        self.assertEqual(office.client.post("/sign-out", data={"csrf": office.csrf}).status_code, 303)
        self.assertEqual(office.get().status_code, 303)

    def test_a_new_workspace_is_made_and_entered(self) -> None:
        office = Office(make_house(fields=False))
        answer = office.client.post(
            "/workspaces", data={"csrf": office.csrf, "name": f"Annexe {office.house.slug}", "zone": "Europe/London"}
        )
        self.assertEqual(office.client.get(answer.headers["location"]).status_code, 200)
        answer = office.client.post("/workspaces", data={"csrf": office.csrf, "name": "", "zone": "Nowhere"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("No such time zone", answer.text)

    def test_the_demo_door_is_shut_elsewhere(self) -> None:
        from starlette.testclient import TestClient

        from finesieve.app import create_app
        from finesieve.settings import MissingSecret, Settings
        from tests.support.database import database_url

        app = create_app(Settings(database_url=database_url(), secret="a secret of the tests", demo=False))
        with TestClient(app, follow_redirects=False) as client:
            self.assertNotIn("demo", client.get("/sign-in").text)
            self.assertEqual(client.post("/sign-in/demo").status_code, 404)
        with self.assertRaises(MissingSecret):
            create_app(Settings(database_url=database_url(), secret="", demo=False))


class Writing(unittest.TestCase):
    def test_figures_and_dates_are_those_of_the_house(self) -> None:
        """In the manner of the workspace, not of the program: days of the history, and figures of every page."""
        house = make_house()
        person = house.add(plot_length=Decimal(6))
        set_values(house.scope, person, {"plot_length": "7"})
        office = Office(house)
        self.assertIn("25 Nov 2026, 10:30", office.get(f"people/{person}").text)
        change_manner(house.scope, MannerInput(language="de_DE", currency="EUR", country="DE", zone="Europe/Berlin"))
        self.assertIn("25. Nov. 2026, 11:30", office.get(f"people/{person}").text)

    def test_figures(self) -> None:
        written = {language: write_figure(Decimal("12345.5"), language) for language in ("en_GB", "de_DE", "fr_FR")}
        self.assertEqual(written, {"en_GB": "12,345.5", "de_DE": "12.345,5", "fr_FR": "12\u202f345,5"})
        self.assertEqual(write_day(date(1984, 5, 27), "en_US"), "May 27, 1984")
