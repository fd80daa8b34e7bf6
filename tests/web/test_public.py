"""The public pages over HTTP: steps without scripts, hostile posts, files, and a server that is killed."""

import io
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
import unittest
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.parse import urlencode
from urllib.request import HTTPRedirectHandler, Request, build_opener

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image
from sqlmodel import col, func, select

from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.forms.composing import FormSettings, add_question, change_form_settings, set_phrases
from finesieve.services.people.listing import list_people
from finesieve.services.people.records import list_records
from finesieve.store.tables import Submission
from finesieve.web.languages import accepted_languages
from tests.support.database import database_url, store
from tests.support.gardens import Garden
from tests.support.site import visitor


def picture() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (8, 8), "green").save(out, "PNG")
    return out.getvalue()


class Filling:
    """A browser without scripts: it posts back all that the page holds, with what is typed over it."""

    def __init__(self, garden: Garden, query: str = "") -> None:
        self.client, self.path = visitor(), f"/join/{garden.house.slug}/join-us"
        self.page = self.client.get(self.path + query).text

    def inputs(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for tag in re.findall(r"<input[^>]*>", self.page):
            name, value = re.search(r'name="([^"]*)"', tag), re.search(r'value="([^"]*)"', tag)
            ticked = not re.search(r'type="(radio|checkbox|file)"', tag) or "checked" in tag
            if name and ticked and "file" not in tag:
                found.setdefault(name[1], []).append(value[1] if value else "")
        return found

    def post(self, action: str, files: dict[str, Any] | None = None, **typed: str) -> int:
        data = {
            **self.inputs(),
            **{f"a_{name}".replace("_", ".").replace("a.", "a_"): [text] for name, text in typed.items()},
        }
        answer = self.client.post(self.path, data={**data, "action": action}, files=files)
        self.page = answer.text
        return answer.status_code


class Steps(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        settings_ = FormSettings(stepped=True, languages=("de",))
        self.garden.do(change_form_settings, settings_)
        self.garden.do(set_phrases, "de", {"Zone": "Lage"})
        self.garden.publish()

    def test_through_the_steps_without_scripts(self) -> None:
        """On only when the step is sound, back without losing anything, in another language with the answers kept."""
        filling = Filling(self.garden)
        self.assertIn("Step 1 of 2", filling.page)
        self.assertEqual(filling.post("next", q1="wren"), 422)
        self.assertIn("not a complete email address", filling.page)
        self.assertEqual(filling.post("next", q1="wren@x.example"), 200)
        self.assertIn("Step 2 of 2", filling.page)
        self.assertEqual(filling.post("add:s2"), 200)
        self.assertEqual(filling.post("add:s2", q5_1="3"), 200)
        self.assertEqual(filling.post("drop:s2:2", q5_2="9"), 200)
        self.assertEqual(filling.post("back"), 200)
        self.assertIn('value="wren@x.example"', filling.page)
        self.assertEqual(filling.post("lang:de"), 200)
        self.assertIn("Lage", filling.page)
        self.assertIn('value="wren@x.example"', filling.page)
        self.assertEqual(filling.post("next"), 200)
        self.assertIn('value="3"', filling.page)
        self.assertEqual(filling.post("send"), 303)
        self.assertEqual(list_people(self.garden.scope).everyone, 1)
        self.assertEqual(
            [line.cells for line in list_records(self.garden.scope, self.garden.type).lines], [("", "3 m")]
        )

    def test_sending_from_a_later_step_leads_to_the_first_trouble(self) -> None:
        filling = Filling(self.garden)
        filling.post("next", q1="wren@x.example")
        self.assertEqual(filling.post("send", q1="wren"), 422)
        self.assertIn("Step 1 of 2", filling.page)
        self.assertIn('id="summary"', filling.page)

    def test_the_browsers_language(self) -> None:
        answer = visitor().get(f"/join/{self.garden.house.slug}/join-us", headers={"accept-language": "de-AT,en;q=0.5"})
        self.assertIn("Lage", answer.text)
        self.assertIn('<html lang="de">', answer.text)

    def test_a_link_that_leads_nowhere_says_so_in_its_language(self) -> None:
        for page in ("confirm", "address"):
            path = f"/join/{self.garden.house.slug}/join-us/{page}"
            answers = (
                visitor().get(f"{path}?lang=de&letter=forged"),
                visitor().post(path, data={"letter": "x", "lang": "de"}),
            )
            for answer in answers:
                self.assertEqual(answer.status_code, 404)
                self.assertIn("Dieser Link ist unvollständig oder abgelaufen", answer.text)
                self.assertIn('<html lang="de">', answer.text)
            self.assertIn("incomplete or has expired", visitor().get(f"{path}?letter=forged").text)


class Guards(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        self.sign = create_field(
            self.garden.scope, self.garden.house.group_id(), FieldInput(label="Sign", type_key="picture")
        )
        self.garden.do(add_question, self.sign, "s1")
        self.garden.publish()

    def test_what_only_a_robot_fills(self) -> None:
        """It is thanked, and nothing is kept."""
        filling = Filling(self.garden)
        data = {**filling.inputs(), "a_q1": ["bot@x.example"], "website": ["https://x.example"], "action": "send"}
        self.assertEqual(filling.client.post(filling.path, data=data).status_code, 303)
        self.assertEqual(list_people(self.garden.scope).everyone, 0)

    def test_a_file_survives_an_error_elsewhere(self) -> None:
        """Sent once, it is there still when another answer was wrong; one that will not do is said at its place."""
        filling = Filling(self.garden)
        self.assertEqual(filling.post("send", {"f_q6": ("sign.png", picture(), "image/png")}, q1="wren"), 422)
        self.assertIn("sign.png is here already", filling.page)
        self.assertEqual(filling.post("send", q1="wren@x.example"), 303)
        with store().transaction(self.garden.scope.workspace_id) as session:
            answers = session.exec(select(Submission.answers)).one()
        self.assertEqual(answers["sign"]["name"], "sign.png")
        other = Filling(self.garden)
        self.assertEqual(other.post("send", {"f_q6": ("sign.png", b"no picture", "image/png")}, q1="v@x.example"), 422)
        self.assertIn('id="q6-problem"', other.page)
        self.assertIn('value="v@x.example"', other.page)
        self.assertEqual(other.post("send", {"f_q1": ("a.png", picture(), "image/png")}), 422)

    @settings(max_examples=250, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    @given(st.data())
    def test_generated_posts(self, data: st.DataObject) -> None:
        """Missing, surplus, oversized, wrongly typed and hostile answers: a 2xx, 303 or 4xx, and never what does not fit stored."""
        hostile = st.sampled_from(
            [
                "",
                "-1",
                "9" * 400,
                "1e999",
                "NaN",
                "\x00",
                "<script>alert(1)</script>",
                "{house.x}",
                "../../etc",
                "x" * 30_000,
                "٣",
                "1 2 r9 r99999999999999999999",
                "add:s2",
                "drop:s2:1",
                "\U0001f331",
                "yes\nno",
            ]
        )
        names = [
            "token",
            "lang",
            "step",
            "touched",
            "asked",
            "website",
            "challenge",
            "person",
            "a_s2",
            "action",
            "mine",
            "letter",
        ]
        names += [f"a_q{number}{filling}" for number in range(1, 8) for filling in ("", ".1", ".r1", ".x")]
        body = data.draw(st.dictionaries(st.sampled_from(names), st.one_of(hostile, st.text(max_size=20)), max_size=10))
        body = {name: value.encode("utf-8", "replace").decode() for name, value in body.items()}
        body.pop("website", None)
        address = f"/join/{self.garden.house.slug}/join-us" + data.draw(st.sampled_from(["", "/answers", "/confirm"]))
        files = (
            {"f_q6": ("x" * 300 + ".png", data.draw(st.binary(max_size=60)), "image/png")}
            if data.draw(st.booleans())
            else None
        )
        # Each from an address of its own, or the limit would be all that is tried.
        answer = visitor().post(address, data=body, files=files if not address.endswith("/confirm") else None)
        self.assertLess(answer.status_code, 500, f"{address} {body}")
        query = urlencode({name: value[:200] for name, value in body.items()})
        self.assertLess(visitor().get(f"{address.removesuffix('/answers')}?{query}").status_code, 500, query)

    def test_too_large(self) -> None:
        """More than a form can hold, and a file beyond all bounds, are refused as such."""
        path = f"/join/{self.garden.house.slug}/join-us"
        self.assertEqual(visitor().post(path, data={"a_q1": "x" * 1_100_000}).status_code, 413)
        self.assertEqual(
            visitor().post(path, files={"f_q6": ("x.png", b"0" * 24_000_000, "image/png")}).status_code, 413
        )
        self.assertEqual(
            visitor().post(path, content=b"{}", headers={"content-type": "application/json"}).status_code, 415
        )


class Killed(unittest.TestCase):
    """A server process of its own on the tests' database, killed in the middle of many sendings."""

    def setUp(self) -> None:
        self.garden = Garden()
        self.garden.publish()
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.acknowledged: set[str] = set()

    def serve(self) -> "subprocess.Popen[bytes]":
        environment = {
            **os.environ,
            "FINESIEVE_DATABASE_URL": database_url(),
            "FINESIEVE_SECRET": "a secret of the tests",
        }
        command = [
            sys.executable,
            "-m",
            "uvicorn",
            "--factory",
            "finesieve.app:create_server",
            "--port",
            str(self.port),
            "--log-level",
            "critical",
        ]
        server = subprocess.Popen(command, env=environment)
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        for _ in range(1_800):
            try:
                with socket.create_connection(("127.0.0.1", self.port), 0.2):
                    return server
            except OSError:
                time.sleep(0.05)
        raise AssertionError("the server did not start")

    def send(self, number: int, token: str) -> None:
        """Send one form; note it where the server said that it was taken."""
        answers = {"token": token, "a_q1": f"p{number}@x.example", "a_s2": "1", "a_q5.1": "3", "action": "send"}
        body = urlencode([*answers.items(), *(("asked", name) for name in ("q1", "q2", "q3", "q4.1", "q5.1"))]).encode()
        try:
            _OPENER.open(
                Request(f"http://127.0.0.1:{self.port}/join/{self.garden.house.slug}/join-us", body), timeout=20
            ).close()
        except HTTPError as answer:
            if answer.code == 303:
                self.acknowledged.add(f"p{number}@x.example")
        except (URLError, OSError):
            pass  # it was killed meanwhile: nothing was acknowledged

    def test_nothing_acknowledged_is_lost_and_nothing_is_doubled(self) -> None:
        """Killed with SIGKILL while thirty people send; when all have tried again, each is there once."""
        tokens = [self.garden.open().token for _ in range(30)]
        server = self.serve()
        threads = [threading.Thread(target=self.send, args=(number, token)) for number, token in enumerate(tokens)]
        for thread in threads:
            thread.start()
            time.sleep(0.02)
        while not self.acknowledged and any(thread.is_alive() for thread in threads):
            time.sleep(0.005)
        server.send_signal(signal.SIGKILL)
        for thread in threads:
            thread.join()
        before = set(self.acknowledged)
        self.assertTrue(before)
        self.assertTrue(before <= self.emails())
        self.serve()
        for number, token in enumerate(tokens):
            self.send(number, token)
        self.assertEqual(len(self.acknowledged), 30)
        self.assertEqual(self.emails(), self.acknowledged)
        self.assertEqual(list_people(self.garden.scope).everyone, 30)
        with store().transaction(self.garden.scope.workspace_id) as session:
            mine = select(func.count()).select_from(Submission).where(col(Submission.form_id) == self.garden.form)
            self.assertEqual(session.exec(mine).one(), 30)
        self.assertEqual(list_records(self.garden.scope, self.garden.type).total, 30)

    def emails(self) -> set[str]:
        with store().transaction(self.garden.scope.workspace_id) as session:
            return {str(answers["email"]) for answers in session.exec(select(Submission.answers)).all()}


class Languages(unittest.TestCase):
    def test_by_weight(self) -> None:
        """The most wished for first; what is refused, and what is no language, is left out."""
        for header, languages in (
            ("", ()), ("*", ()), ("de", ("de",)), ("de-AT,en;q=0.5", ("de", "en")), ("en;q=0.2, de;q=0.9", ("de", "en")),
            ("fr, de, fr;q=0.3", ("fr", "de")), ("en;q=0, de;q=0.1", ("de",)), ("x, 12, klingon, de_CH ;q=1", ("de",)),
            ("en;q=much,de;level=1,fr;q=2", ("fr",)), ("," * 500 + "de", ()),
        ):  # fmt: skip
            self.assertEqual(accepted_languages(header), languages, header)


class _Staying(HTTPRedirectHandler):
    def redirect_request(self, *_: Any) -> None:
        return None


_OPENER = build_opener(_Staying)
