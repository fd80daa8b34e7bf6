"""The application in a test: signed in, with the secret of its forms at hand."""

import atexit
import itertools
import re
from functools import cache
from typing import Final

from fastapi import FastAPI
from starlette.testclient import TestClient

from finesieve.app import create_app
from finesieve.settings import Settings
from tests.support.database import database_url
from tests.support.house import NOW, PASSWORD, House


@cache
def application() -> FastAPI:
    """One application a process, with the clock at NOW."""
    settings = Settings(database_url=database_url(), secret="a secret of the tests", demo=True, fast_hashes=True)
    app = create_app(settings, lambda: NOW)
    for one in (app.state.site.store, app.state.site.public_forms.store):
        atexit.register(one.engine.dispose)
    return app


def visitor(address: str = "testclient") -> TestClient:
    """A browser that nobody has signed in with, at an address."""
    return TestClient(
        application(), base_url="http://testserver", follow_redirects=False, raise_server_exceptions=False,
        client=(address, 50_000),
    )  # fmt: skip


_desks: Final = itertools.count(1)


class Office:
    """A signed-in browser; posts carry the session's secret."""

    def __init__(self, house: House) -> None:
        self.house = house
        # At an address of their own: wrong passwords that others have tried at theirs keep nobody out.
        number = next(_desks)
        self.client = visitor(f"10.8.{number // 250}.{number % 250 + 1}")
        answer = self.client.post("/sign-in", data={"email": house.email, "password": PASSWORD})
        assert answer.status_code == 303, answer.text
        page = self.client.get("/workspaces").text
        found = re.search(r'name="csrf" value="([^"]+)"', page)
        assert found
        self.csrf = found[1]

    def path(self, rest: str = "") -> str:
        return f"/w/{self.house.slug}/{rest}"

    def get(self, rest: str = ""):  # type: ignore[no-untyped-def]
        return self.client.get(self.path(rest))

    def post(self, rest: str, data: dict[str, str] | None = None, **options):  # type: ignore[no-untyped-def]
        return self.client.post(self.path(rest), data={"csrf": self.csrf, **(data or {})}, **options)
