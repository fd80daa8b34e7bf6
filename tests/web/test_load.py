"""What a few requests may take from the others: connections, threads, time."""

import asyncio
import logging
import unittest
from contextlib import ExitStack
from unittest.mock import patch

from sqlalchemy import create_engine, text
from starlette.requests import ClientDisconnect
from starlette.testclient import TestClient

from finesieve import app as application
from finesieve.app import create_app
from finesieve.core.errors import TookTooLong, Unavailable
from finesieve.services.compute import derived as compute
from finesieve.services.kernel import turns
from finesieve.settings import Settings
from finesieve.store.connection.database import Store, apart, connect, in_time
from finesieve.web import admission, templating
from finesieve.web.admission import Admission
from finesieve.web.errors import status_of
from tests.support.database import database_url, store
from tests.support.house import NOW, PASSWORD, make_house
from tests.support.site import Office


class Shares(unittest.IsolatedAsyncioTestCase):
    """Who waits too long is told so; the others' shares are untouched."""

    def setUp(self) -> None:
        self.going_on, self.leave, self.statuses = 0, asyncio.Event(), dict[str, list[int]]()
        self.gate = Admission(self.app)
        patcher = patch.object(admission, "_WAIT", 2)
        patcher.start()
        self.addCleanup(patcher.stop)

    async def app(self, scope, receive, send) -> None:  # type: ignore[no-untyped-def]
        try:
            await receive()
        except Unavailable as full:
            await send({"type": "http.response.start", "status": status_of(full), "headers": []})
            return
        self.going_on += 1
        try:
            await asyncio.wait_for(self.leave.wait(), 20)
        finally:
            self.going_on -= 1
        await send({"type": "http.response.start", "status": 200, "headers": []})

    async def ask(self, path: str) -> int:
        status = 0

        messages = iter([{"type": "http.request", "body": b"", "more_body": False}])

        async def receive():  # type: ignore[no-untyped-def]
            message = next(messages, None)
            if message is None:
                await self.leave.wait()
            return message or {"type": "http.disconnect"}

        async def send(message) -> None:  # type: ignore[no-untyped-def]
            nonlocal status
            status = message.get("status", status)

        await self.gate({"type": "http", "path": path, "headers": [], "method": "GET"}, receive, send)
        return status

    async def test_each_has_its_own(self) -> None:
        crowd = [asyncio.create_task(self.ask("/w/x/")) for _ in range(30)]
        others = [asyncio.create_task(self.ask(path)) for path in ("/join/x/y", "/sign-in", "/healthz")]
        await self.settled(crowd, 14, 19)
        self.assertEqual(self.going_on, 19)
        self.assertEqual([one.result() for one in crowd if one.done()], [503] * 14)
        self.leave.set()
        self.assertEqual([await one for one in others], [200] * 3)
        self.assertEqual(sorted([await one for one in crowd]), [200] * 16 + [503] * 14)

    async def test_answers_are_worked_out_three_at_a_time(self) -> None:
        crowd = [asyncio.create_task(self.ask("/join/x/y/answers")) for _ in range(5)]
        sending = asyncio.create_task(self.ask("/join/x/y"))
        await self.settled(crowd, 2, 4)
        self.assertEqual(self.going_on, 4)
        self.leave.set()
        self.assertEqual(await sending, 200)
        self.assertEqual(sorted([await one for one in crowd]), [200] * 3 + [503] * 2)

    async def test_a_visitor_who_leaves_widens_no_share(self) -> None:
        """What waits for the visitor to go away gives nothing back that it does not hold."""

        async def streaming(scope, receive, send) -> None:  # type: ignore[no-untyped-def]
            await receive()
            gone = asyncio.create_task(receive())
            await asyncio.sleep(0)
            gone.cancel()
            await asyncio.gather(gone, return_exceptions=True)

        self.gate = Admission(streaming)
        for _ in range(40):
            await self.ask("/w/x/")
        self.gate._app = self.app
        crowd = [asyncio.create_task(self.ask("/w/x/")) for _ in range(30)]
        await self.settled(crowd, 14, 16)
        self.assertEqual(self.going_on, 16)
        self.leave.set()
        await asyncio.gather(*crowd)

    async def settled(self, crowd: list["asyncio.Task[int]"], turned_away: int, going_on: int) -> None:
        """Wait until so many are told to come back, and so many go on."""
        for _ in range(400):
            if sum(one.done() for one in crowd) == turned_away and self.going_on == going_on:
                return
            await asyncio.sleep(0.05)
        self.fail(f"{sum(one.done() for one in crowd)} turned away, {self.going_on} going on")

    async def test_an_answer_that_goes_on_keeps_its_share(self) -> None:
        """Waiting for the visitor to leave is no reason to let another in."""

        async def streaming(scope, receive, send) -> None:  # type: ignore[no-untyped-def]
            async def receive_and_watch():  # type: ignore[no-untyped-def]
                message = await receive()
                watching.append(asyncio.create_task(receive()))
                return message

            await self.app(scope, receive_and_watch, send)

        watching: list[asyncio.Task[object]] = []
        self.gate = Admission(streaming)
        crowd = [asyncio.create_task(self.ask("/w/x/")) for _ in range(30)]
        await self.settled(crowd, 14, 16)
        self.assertEqual(self.going_on, 16)
        self.leave.set()
        await asyncio.gather(*crowd, *watching)


class Whose(unittest.TestCase):
    def test_public_pages_take_none_of_the_office(self) -> None:
        for path, share in (
            ("/chat/x/y", "talk"), ("/answer/x/token", "front"), ("/join/x/y", "front"), ("/join/x/y/answers", "answers"),
            ("/w/x/", "office"),
        ):  # fmt: skip
            self.assertEqual(admission._share_of(path), share, path)


class Beginning(unittest.TestCase):
    def test_a_server_has_its_public_pages_ready(self) -> None:
        """The first to come need not wait until what all want is made, each of many at once for themselves."""
        templating._environment.cache_clear()
        with patch.object(application, "create_app"), patch.object(application.gc, "freeze"):
            application.create_server()
        known = {str(name) for _, name in templating._environment().cache or {}}
        self.assertLessEqual({"front/chat/chat.html", "front/chat/_said.html", "web/question.html"}, known)


class Connections(unittest.TestCase):
    def test_all_connections_taken(self) -> None:
        """A plain page says so, and so does the look at its health; then all goes on."""
        house = make_house()
        settings = Settings(database_url=database_url(), secret="a secret of the tests", demo=True, fast_hashes=True)
        app = create_app(settings, lambda: NOW)
        engine = app.state.site.store.engine
        self.addCleanup(engine.dispose)
        engine.pool._timeout = 0.1
        client = TestClient(app, follow_redirects=False, raise_server_exceptions=False)
        client.post("/sign-in", data={"email": house.email, "password": PASSWORD})
        pages = ("/healthz", f"/w/{house.slug}/", f"/w/{house.slug}/people")
        with ExitStack() as taken:
            for _ in range(20):
                taken.enter_context(engine.connect())
            answers = [client.get(page) for page in pages]
            self.assertEqual([answer.status_code for answer in answers], [503] * 3)
            self.assertIn("try again in a moment", answers[1].text)
        self.assertEqual([client.get(page).status_code for page in pages], [200] * 3)

    def test_a_statement_has_its_time(self) -> None:
        with self.assertRaises(TookTooLong), Store(connect(database_url(), seconds=0.2)).transaction() as session:
            session.execute(text("SELECT pg_sleep(5)"))

    def test_a_part_has_its_time_and_the_rest_goes_on(self) -> None:
        with store().transaction() as session:
            with self.assertRaises(TookTooLong), apart(session, 0.2):
                session.execute(text("SELECT pg_sleep(5)"))
            with self.assertRaises(TookTooLong), apart(session, 0.01):
                while True:
                    in_time(session)
            self.assertEqual(session.execute(text("SELECT 1")).scalar_one(), 1)

    def test_no_database_is_unavailable(self) -> None:
        nowhere = create_engine("postgresql+psycopg://x:y@127.0.0.1:9/x", connect_args={"connect_timeout": 1})
        self.addCleanup(nowhere.dispose)
        with self.assertRaises(Unavailable), Store(nowhere).transaction() as session:
            session.execute(text("SELECT 1"))


class Previews(unittest.TestCase):
    def test_a_costly_preview_ends(self) -> None:
        """Within its time, with a sentence; nothing else waits for it."""
        house = make_house()
        for _ in range(400):
            house.add(favourite="x" * 200)
        office = Office(house)
        self.assertLessEqual(turns.SECONDS, 2)
        patcher = patch.object(compute, "SECONDS", 0.05)
        patcher.start()
        self.addCleanup(patcher.stop)
        costly = " and ".join(f'favourite matches "(x?){{{number}}}x{{{number}}}y"' for number in range(20, 60))
        answer = office.post("compute/preview", {"label": "Costly", "formula": costly})
        self.assertLess(answer.status_code, 500)
        self.assertIn("takes too long", answer.text)


class Gone(unittest.TestCase):
    def test_a_dropped_connection_is_no_error(self) -> None:
        app = create_app(Settings(database_url=database_url(), secret="a secret of the tests", demo=True), lambda: NOW)

        @app.get("/gone")
        def gone() -> None:
            raise ClientDisconnect

        client = TestClient(app, raise_server_exceptions=False)
        with self.assertNoLogs("finesieve", logging.WARNING):
            self.assertEqual(client.get("/gone").status_code, 400)
        app.state.site.store.engine.dispose()


if __name__ == "__main__":
    unittest.main()
