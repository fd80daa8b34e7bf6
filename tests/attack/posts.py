"""Posts made of the forms that pages really have, with one or two inputs made to hurt."""

import random
import time
from collections.abc import Iterator
from dataclasses import dataclass
from html.parser import HTMLParser
from urllib.parse import urldefrag, urljoin

from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import read_draft, read_form
from tests.attack.count import Count
from tests.support.furnished import Furnished, routes
from tests.support.site import Office

HOSTILE = (
    "", " ", "0", "-1", "9" * 15, "9" * 30, "9" * 5_000, "1e999", "NaN", "٣", "²", "1,2,3", "\x00", "\x1b[2J", "\u202e",
    "' OR 1=1 --", "<script>alert(1)</script>", "{{7*7}}", "{house.nothing}", "../../etc/passwd", "=HYPERLINK(\"x\")",
    "x" * 6_000, "🌱" * 300, "a\r\nb", "é" * 81, "(" * 3_000, "not " * 2_000, "any(x where " * 200, "true", "zone = \"north\"",
    "1 / 0", "plot_length ^ plot_length", "[a-z]+(", "(a+)+$", "{", "[]", '{"a": 1, "a": 2}', '{"$ref": "#"}', "2026-02-30",
    "0000-00-00", "9999-12-31T23:59", "add", "remove:0", "drop:9", "addcheck", "unknown_kind", "q1", "s1", "order", "person",
    "record:0", "record:999999", "https://", "javascript:alert(1)", "a@b@c", "http://[", "%00", "1:up",
)  # fmt: skip


@dataclass(frozen=True)
class Form:
    """Where a form posts to, and what its inputs held."""

    action: str
    inputs: tuple[tuple[str, str], ...]


class _Forms(HTMLParser):
    def __init__(self, address: str) -> None:
        super().__init__()
        self.address = address
        self.forms: list[Form] = []
        self._actions: list[str] = []
        self._inputs: list[tuple[str, str]] = []
        self._select = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = {name: value or "" for name, value in attrs}
        if tag == "form":
            posts = given.get("method", "").lower() == "post"
            self._actions, self._inputs = [self._where(given.get("action", ""))] if posts else [], []
        self._actions += [self._where(given[name]) for name in ("hx-post", "formaction") if given.get(name)]
        name = given.get("name", "")
        if tag == "select":
            self._select = name
        if tag == "option" and self._select and "selected" in given:
            self._inputs.append((self._select, given.get("value", "")))
        elif name and tag in ("input", "textarea", "button", "select"):
            self._inputs.append((name, given.get("value", "")))

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self.forms += [Form(action, tuple(self._inputs)) for action in self._actions]
            self._actions = []

    def _where(self, action: str) -> str:
        return urldefrag(urljoin(self.address, action)).url


def forms_of(office: Office, furnished: Furnished) -> list[Form]:
    """Every form of every page, once; those that end the session apart."""
    found: dict[tuple[str, tuple[str, ...]], Form] = {}
    for method, path in routes():
        if method != "GET" or path in ("/healthz", "/sign-in"):
            continue
        address = furnished.address(path)
        chosen = (
            [f"{address}?q={part}" for part in ("s1", "q1", "q2", "q3", "q4", "q5")]
            if path.endswith("{form_id:int}")
            else []
        )
        for page in (address, *chosen):
            reader = _Forms(f"http://testserver{page}")
            reader.feed(office.client.get(page).text)
            for form in reader.forms:
                found.setdefault((form.action, tuple(name for name, _ in form.inputs)), form)
    return [form for form in found.values() if "sign-out" not in form.action]


def _with_checks(furnished: Furnished) -> Furnished:
    """Its form with questions that have checks, rules and surcharges, so that those are attacked too."""
    scope, form = furnished.house.scope, furnished.form

    def revision() -> int:
        return read_draft(scope, form).revision

    for key, checks in (
        ("zone", ({"kind": "condition", "expression": "plot_length > 1"},)),
        ("plot_length", ({"kind": "range", "low": "1"},)),
        ("born", ({"kind": "date", "low": {"amount": -16, "unit": "years"}},)),
        ("favourite", ({"kind": "pattern", "pattern": "[a-z]+"}, {"kind": "unique"}, {"kind": "length", "high": "9"})),
    ):
        add_question(scope, form, revision(), furnished.house.field_id(key))
        question = read_form(scope, form).document.questions[-1].id
        asked = QuestionInput(checks=checks, show_when="swaps_seed", surcharges=({"label": "A", "amount": "2"},))
        change_question(scope, form, revision(), question, asked)
    return furnished


def bad_posts(tries: int, seed: int = 0) -> Count:
    """Post so many times, to a house that is furnished anew from time to time."""
    chance, count = random.Random(seed), Count("bad posts", seconds={"one post": 0.0})
    while tries > 0:
        furnished = _with_checks(Furnished())
        office = Office(furnished.house)
        for form, data in _mutated(forms_of(office, furnished), chance, min(tries, 400)):
            started = time.monotonic()
            answer = office.client.post(form.action, data=data)
            count.seconds["one post"] = max(count.seconds["one post"], time.monotonic() - started)
            short = {name: value[:60] for name, value in data.items() if name != "csrf"}
            wrong = f"{answer.status_code}: {form.action} {short}" if answer.status_code >= 500 else ""
            count.end(answer.status_code, wrong)
        tries -= 400
    return count


def _mutated(forms: list[Form], chance: random.Random, number: int) -> Iterator[tuple[Form, dict[str, str]]]:
    for _ in range(number):
        form = chance.choice(forms)
        data = dict(form.inputs)
        names = [name for name in data if name != "csrf"] or ["surplus"]
        for name in chance.sample(names, min(len(names), chance.choice((1, 1, 2, 3)))):
            if chance.random() < 0.1:
                data.pop(name, None)
            else:
                data[name] = chance.choice(HOSTILE)
        yield form, data


ODD = ("9" * 5_000, "%00", "0", "9" * 15, "-1", "٣", "%ed%a0%80", "x" * 3_000, "..%2f..%2f")


def bad_addresses(kinds: int = len(ODD)) -> Count:
    """Every route with parameters beyond sense: never 5xx, and never a thing that is there."""
    count, furnished = Count("bad addresses"), Furnished()
    office = Office(furnished.house)
    for method, path in routes():
        for odd in ODD[:kinds]:
            parts = [odd if part.startswith("{") and part != "{slug}" else part for part in path.split("/")]
            address = "/".join(parts).format(**furnished.parameters(path))
            if method == "POST" and path == "/sign-out":
                continue
            data = {"csrf": office.csrf, "revision": "1"} if method == "POST" else None
            answer = office.client.request(method, address, data=data)
            count.end(answer.status_code, f"{method} {address[:80]}" if answer.status_code >= 500 else "")
    return count
