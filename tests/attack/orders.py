"""Two hundred orders a minute while the database and the web server are killed: none lost, none doubled."""

import re
import threading
import time
from contextlib import ExitStack

import httpx2 as httpx
from sqlmodel import col, select

from finesieve.store.tables import OrderRow, PaymentRow
from tests.attack.count import Count
from tests.attack.kills import on_a_database_of_its_own
from tests.support.house import make_house
from tests.support.shop import Trade

SHOPPERS, WITHIN = 10, 20
"""Shoppers at once; seconds within which all goes on again."""


class Shopper(threading.Thread):
    """Somebody who orders again and again, and sends the same again until it is acknowledged."""

    def __init__(
        self, number: int, base: str, workspace: str, form: str, rate: float, stopping: threading.Event
    ) -> None:
        super().__init__(daemon=True)
        self.number, self.base, self.workspace, self.form = number, base, workspace, form
        self.between, self.stopping = 60 / rate, stopping
        self.placed: list[str] = []
        self.again, self.slowest, self.odd = 0, 0.0, list[str]()

    def run(self) -> None:
        """Order at a steady pace until asked to stop; what was begun is brought to its end."""
        while not self.stopping.is_set():
            started = time.monotonic()
            self.order(len(self.placed))
            spent = time.monotonic() - started
            self.slowest = max(self.slowest, spent)
            self.stopping.wait(max(0.0, self.between - spent))

    def order(self, count: int) -> None:
        """From an empty cart to a paid order."""
        headers = {"X-Forwarded-For": f"10.{self.number}.{count // 100}.{count % 100 + 1}"}
        with httpx.Client(base_url=self.base, headers=headers, timeout=20) as client:
            shop, join = f"/shop/{self.workspace}", f"/join/{self.workspace}/{self.form}"
            self._until(
                client, "POST", f"{shop}/cart", {"what": "add", "product": "packet", "variant": "", "quantity": "3"}
            )
            there = self._until(client, "POST", f"{shop}/checkout", {}).headers["location"]
            page = self._until(client, "GET", there).text
            data = {"delivery": "van", "payment": "pay", "a_q1": f"shopper{self.number}-{count}@hedgerow.example"}
            data |= {"token": _value(page, "token")}
            page = self._until(client, "POST", f"{join}/answers", data).text
            data |= {"token": _value(page, "token"), "total": _value(page, "total"), "action": "send"}
            asked = re.findall(r'name="asked" value="([^"]+)"', page)
            order = self._until(client, "POST", join, {**data, "asked": asked}).headers["location"]
            self._until(client, "POST", f"{order}/pay", {"answer": ("accept", "twice")[count % 2]})
            self.placed.append(order)

    def _until(self, client: httpx.Client, method: str, path: str, data: object = None) -> httpx.Response:
        while True:
            try:
                answer = client.request(method, path, data=data)  # type: ignore[arg-type]
                if answer.status_code in (200, 303):
                    return answer
                if answer.status_code != 503:
                    self.odd.append(f"{answer.status_code} from {path}: {answer.text[:300]}")
            except httpx.HTTPError:
                pass
            self.again += 1
            time.sleep(0.3)


def _value(page: str, name: str) -> str:
    found = re.search(rf'name="{name}" value="([^"]*)"', page)
    return found[1] if found else ""


def orders_under_load(seconds: float, a_minute: int) -> Count:
    """Orders at a pace for so long, the database killed once and the web server once."""
    count = Count("orders under load")
    with ExitStack() as after:
        running, _ = on_a_database_of_its_own(after)
        trade = Trade(make_house())
        running.start_all()
        stopping, base = threading.Event(), f"http://127.0.0.1:{running.port}"
        shoppers = [
            Shopper(number, base, trade.house.slug, trade.slug, a_minute / SHOPPERS, stopping)
            for number in range(SHOPPERS)
        ]
        for shopper in shoppers:
            shopper.start()
        for name in ("database", "web"):
            time.sleep(seconds / 3)
            running.kill(name)
            waited = running.wait(f"killing the {name}")
            count.end(f"{name} killed", "" if waited <= WITHIN else f"{name}: ready again after {waited:.1f} s")
        time.sleep(seconds / 3)
        stopping.set()
        for shopper in shoppers:
            shopper.join(60)
        _settle(trade, shoppers, count)
    return count


def _settle(trade: Trade, shoppers: list[Shopper], count: Count) -> None:
    with trade.house.scope.reading("owner") as unit:
        rows = unit.session.exec(select(OrderRow).order_by(col(OrderRow.number))).all()
        payments = unit.session.exec(select(PaymentRow)).all()
    placed = [order for shopper in shoppers for order in shopper.placed]
    wrong = {
        "an order was given to two": len(set(placed)) != len(placed),
        f"{len(rows)} orders, {len(placed)} acknowledged": len(rows) != len(placed),
        "numbers with gaps": [row.number for row in rows] != list(range(1, len(rows) + 1)),
        "orders that are not placed": {row.state for row in rows} != {"placed"},
        "payments that are not paid once": [one.state for one in payments] != ["paid"] * len(rows),
    }
    count.found += [words for words, amiss in wrong.items() if amiss]
    for shopper in shoppers:
        count.found += shopper.odd[:2]
    count.ends["acknowledged"], count.ends["sent again"] = len(placed), sum(shopper.again for shopper in shoppers)
    count.seconds["an order"] = max(shopper.slowest for shopper in shoppers)
