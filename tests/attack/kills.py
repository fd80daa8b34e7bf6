"""The web server, the worker and the database killed under load: nothing acknowledged is lost or counted twice."""

import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import ExitStack
from pathlib import Path

import httpx2 as httpx
from sqlalchemy import text
from sqlmodel import col, select

from finesieve.localdb import LocalPostgres, MissingPostgres
from finesieve.services.chat.scripts import create_script, publish_script
from finesieve.services.define.retyping import begin_type_change
from finesieve.services.kernel.tasks import RUN_TASK, read_task
from finesieve.services.people.bulk import BulkInput, Chosen, change_in_bulk
from finesieve.services.people.listing import Listing
from finesieve.store.connection.database import Store, connect
from finesieve.store.migrate import migrate
from finesieve.store.tables import Conversation, ConversationLine, Submission
from tests.attack.count import Count
from tests.support import database
from tests.support.gardens import Garden

SENDERS, PEOPLE, WITHIN = 4, 2_000, 15
"""Senders at once; people whose values a task changes; seconds within which all goes on again."""


class Running:
    """A database, a web server and a worker, each a process that can be killed and started again."""

    def __init__(self, home: Path) -> None:
        self.home, self.found = home, {"status": "never asked"}
        self.server = LocalPostgres(home)
        self.server.start()
        with socket_port() as port:
            self.port = port
        self.environment = os.environ | {
            "FINESIEVE_DATABASE_URL": self.server.url, "FINESIEVE_SECRET": "a secret of the tests",
            "FINESIEVE_VAR": str(home), "FINESIEVE_PROXIES": "127.0.0.1",
        }  # fmt: skip
        self.processes: dict[str, subprocess.Popen[bytes]] = {}
        self.log = (home / "output").open("wb")

    def start(self, name: str) -> None:
        """Start the web server or the worker."""
        words = ["serve", "--port", str(self.port)] if name == "web" else ["worker"]
        self.processes[name] = subprocess.Popen(
            [sys.executable, "-m", "finesieve.cli", *words], env=self.environment, stdout=self.log, stderr=self.log
        )

    def start_all(self) -> None:
        """Start both, and wait until they answer."""
        for name in ("web", "worker"):
            self.start(name)
        self.wait("the start")

    def kill(self, name: str) -> None:
        """Kill one without a word, and start it again as whatever watches over it would."""
        if name == "database":
            process = int((self.server.home / "data" / "postmaster.pid").read_text().split()[0])
            os.kill(process, signal.SIGKILL)
            while Path(f"/proc/{process}").exists():
                time.sleep(0.1)
            for _ in range(20):
                time.sleep(0.5)
                try:
                    self.server.start()  # refused for as long as the children of the killed one live
                    return
                except MissingPostgres:
                    continue
            raise RuntimeError("the database did not start again")
        self.processes[name].kill()
        self.processes[name].wait()
        self.start(name)

    def stop(self) -> None:
        """Stop all, and remove the data."""
        for process in self.processes.values():
            process.kill()
            process.wait()
        self.log.close()
        self.server.remove()

    def answers(self) -> bool:
        """Whether the web server is ready, and a worker alive."""
        try:
            self.found = httpx.get(f"http://127.0.0.1:{self.port}/healthz", timeout=5).json()
        except (httpx.HTTPError, ValueError) as problem:
            self.found = {"status": repr(problem)}
        return self.found == {"status": "ready", "worker": "alive"}

    def wait(self, what: str, seconds: float = 180) -> float:
        """Until all answers; the seconds it took. Raises RuntimeError."""
        started = time.monotonic()
        while time.monotonic() - started < seconds:
            if self.answers():
                return time.monotonic() - started
            time.sleep(0.2)
        self.log.flush()
        said = (self.home / "output").read_text(errors="replace")[-3_000:]
        raise RuntimeError(f"after {what}, not ready within {seconds} s: {self.found}\n{said}")


class socket_port:  # noqa: N801 - reads as a function
    """A port that nobody listens on."""

    def __enter__(self) -> int:
        import socket

        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            return int(probe.getsockname()[1])

    def __exit__(self, *_: object) -> None:
        """Nothing is left open."""


class Sender(threading.Thread):
    """A person who signs up again and again, and sends again, the same, until it is acknowledged."""

    def __init__(self, number: int, address: str, stopping: threading.Event) -> None:
        super().__init__(daemon=True)
        self.number, self.address, self.stopping = number, address, stopping
        self.acknowledged: list[str] = []
        self.again = 0
        self.odd: list[str] = []

    def run(self) -> None:
        """Send until asked to stop; what was begun is brought to its end."""
        while not self.stopping.is_set():
            email = f"sender{self.number}-{len(self.acknowledged)}@hedgerow.example"
            headers = {"X-Forwarded-For": f"10.{self.number}.{len(self.acknowledged) // 20}.1"}
            page = self._until(lambda headers=headers: httpx.get(self.address, headers=headers, timeout=15), 200)
            token = page.split('name="token" value="')[1].split('"')[0]
            data = {"token": token, "a_q1": email, "asked": ["q1", "q2", "q3"], "action": "send", "s2": ""}
            self._until(
                lambda data=data, headers=headers: httpx.post(self.address, data=data, headers=headers, timeout=15), 303
            )
            self.acknowledged.append(email)
            time.sleep(0.2)

    def _until(self, ask, wanted: int) -> str:  # type: ignore[no-untyped-def]
        while True:
            try:
                answer = ask()
                if answer.status_code == wanted:
                    return str(answer.text)
                if answer.status_code not in (500, 502, 503):
                    self.odd.append(f"{answer.status_code} instead of {wanted}: {answer.text[:300]}")
                if answer.status_code == 500:
                    self.odd.append("500 while something was away")
            except httpx.HTTPError:
                pass
            self.again += 1
            time.sleep(0.3)


class Talker(Sender):
    """A person in a conversation that asks again and again; each reply is sent, the same, until it is acknowledged."""

    def run(self) -> None:
        """Reply until asked to stop."""
        while not self.stopping.is_set():
            place = len(self.acknowledged)
            data = {"token": f"a-conversation-that-is-killed-{self.number}", "key": f"k{place}", "text": str(place + 1)}
            data |= {"begins": "1"} if not place else {}
            headers = {"X-Forwarded-For": f"10.9.{self.number}.1", "HX-Request": "true"}
            self._until(
                lambda data=data, headers=headers: httpx.post(self.address, data=data, headers=headers, timeout=15), 200
            )
            self.acknowledged.append(data["text"])
            time.sleep(0.3)


def _make_talk(garden: Garden) -> str:
    """A script that asks the same number for ever; gives its short name."""
    scope, field = garden.house.scope, garden.house.field_id("plot_length")
    asks = {"kind": "ask", "id": "l1", "text": "How long?", "field_id": field, "to": "l1"}
    script = create_script(scope, "For ever", (asks,))
    publish_script(scope, script)
    return "for-ever"


def _lost_or_doubled(store: Store, garden: Garden, talkers: list[Talker]) -> str:
    """What of the acknowledged replies is not in the journal of its conversation exactly once; "" for nothing."""
    with store.transaction(garden.house.scope.workspace_id) as session:
        talks = session.exec(select(Conversation)).all()
        said = sorted(len(one.state["journal"]) for one in talks)
        lines = session.exec(select(ConversationLine.id).where(col(ConversationLine.speaker) == "person")).all()
    meant = sorted(len(one.acknowledged) for one in talkers)
    odd = [words for one in talkers for words in one.odd if "429" not in words]
    if said != meant or len(lines) != sum(meant) or odd:
        return f"{said} replies kept and {len(lines)} lines, {meant} acknowledged; {odd[:3]}"
    return ""


def on_a_database_of_its_own(after: ExitStack) -> tuple[Running, Store]:
    """A database that the makers of houses work on until `after` ends; what else runs is started by its `start_all`."""
    home = Path(after.enter_context(tempfile.TemporaryDirectory(prefix="finesieve-kills-", dir="/var/tmp")))
    home.chmod(0o755)
    running = Running(home)
    after.callback(running.stop)
    engine = connect(running.server.url)
    after.callback(engine.dispose)
    migrate(engine)
    use_database(running.server.url, after)
    return running, Store(engine)


def kills(rounds: int) -> Count:
    """Each process killed so many times while people sign up and a long task runs."""
    count = Count("kills under load")
    with ExitStack() as after:
        running, store = on_a_database_of_its_own(after)
        garden = Garden()
        garden.publish()
        running.start_all()
        _kill_all(running, garden, store, rounds, count)
    return count


def use_database(url: str, after: ExitStack) -> None:
    """Let the tests' own makers of houses work on this database for a while."""
    before = os.environ.get(database.URL)
    os.environ[database.URL] = url

    def back() -> None:
        database.store().engine.dispose()
        if before is None:
            del os.environ[database.URL]
        else:
            os.environ[database.URL] = before
        for cached in (database.database_url, database.store):
            cached.cache_clear()

    for cached in (database.database_url, database.store):
        cached.cache_clear()
    after.callback(back)


def _kill_all(running: Running, garden: Garden, store: Store, rounds: int, count: Count) -> None:
    house = garden.house
    for _ in range(PEOPLE):
        house.add(favourite="12")
    stopping = threading.Event()
    address = f"http://127.0.0.1:{running.port}/join/{house.slug}/join-us"
    senders = [Sender(number, address, stopping) for number in range(SENDERS)]
    chat = f"http://127.0.0.1:{running.port}/chat/{house.slug}/{_make_talk(garden)}"
    talkers = [Talker(number, chat, stopping) for number in range(2)]
    for sender in (*senders, *talkers):
        sender.start()
    for turn in range(rounds * 3):
        name = ("web", "worker", "database")[turn % 3]
        time.sleep(1.5)
        _kill_one(running, garden, store, name, turn, count)
    stopping.set()
    for sender in (*senders, *talkers):
        sender.join(60)
    count.end("conversations", _lost_or_doubled(store, garden, talkers))
    _settle(garden, store, senders, count)


def _kill_one(running: Running, garden: Garden, store: Store, name: str, turn: int, count: Count) -> None:
    """Kill one of them while a task runs: it is taken up again, and what it changes is changed once."""
    scope, zone = garden.house.scope, ("north", "hill")[turn % 2]
    if name == "worker":
        task = _bulk(garden, zone)
        while read_task(scope, task).state == "waiting":
            time.sleep(0.01)
    else:
        task = begin_type_change(
            scope, garden.house.field_id("favourite"), ("number", "short_text")[turn % 2], "", "", {}
        )
    before = _attempts(store)
    running.kill(name)
    killed = time.monotonic()
    if name == "worker":
        killed = _registered(store, killed)
    ready = running.wait(f"killing the {name}")
    while _attempts(store) == before and not read_task(scope, task).over and time.monotonic() - killed < 60:
        time.sleep(0.1)
    again = time.monotonic() - killed
    while not read_task(scope, task).over and time.monotonic() - killed < 120:
        time.sleep(0.1)
    state = read_task(scope, task).state
    wrong = f"{name}: its task is {state}, taken up after {again:.1f} s"
    if state != "done":
        print((running.home / "output").read_text(errors="replace")[-6000:])
    if name == "worker":
        count.end("bulk taken up", _doubled(store, garden, zone))
    count.end(f"{name} killed", wrong if state != "done" or (name == "worker" and again > WITHIN) else "")
    count.seconds[name] = max(count.seconds.get(name, 0), ready, again if name == "worker" else 0)


def _bulk(garden: Garden, zone: str) -> int:
    """A value set for everybody, by a task of more than one batch."""
    asked = BulkInput(what="set", field=garden.house.field_id("zone"), value=zone)
    return change_in_bulk(garden.house.scope, Chosen(listing=Listing()), asked).task


def _doubled(store: Store, garden: Garden, zone: str) -> str:
    """What is wrong with it: somebody without the value, or with two lines of it in the history."""
    workspace, field = garden.house.scope.workspace_id, garden.house.field_id("zone")
    query = text(
        "SELECT count(*), count(DISTINCT entity_id) FROM history WHERE field_id = :field AND source LIKE 'bulk change %' "
        "AND source = (SELECT source FROM history WHERE field_id = :field AND source LIKE 'bulk change %' ORDER BY id DESC LIMIT 1)"
    )
    with store.transaction(workspace) as session:
        lines, people = session.execute(query, {"field": field}).one()
        column = text(f"SELECT count(*) FROM w_{workspace}.person WHERE f{field} = :zone")
        have = int(session.execute(column, {"zone": zone}).scalar_one())
    return "" if lines == people and have >= PEOPLE else f"{lines} lines for {people} people, {have} have it"


def _registered(store: Store, killed: float) -> float:
    """When the new worker had started: taking up again begins there, however slow the machine is to start it."""
    with store.transaction() as session:
        before = int(session.execute(text("SELECT coalesce(max(id), 0) FROM procrastinate_workers")).scalar_one())
    while time.monotonic() - killed < 120:
        with store.transaction() as session:
            newest = int(session.execute(text("SELECT coalesce(max(id), 0) FROM procrastinate_workers")).scalar_one())
        if newest > before:
            break
        time.sleep(0.1)
    return time.monotonic()


def _attempts(store: Store) -> int:
    with store.transaction() as session:
        query = "SELECT coalesce(sum(attempts), 0) FROM procrastinate_jobs WHERE task_name = :name"
        return int(session.execute(text(query), {"name": RUN_TASK}).scalar_one())


def _settle(garden: Garden, store: Store, senders: list[Sender], count: Count) -> None:
    """Every acknowledged sending is there, once."""
    with store.transaction(garden.house.scope.workspace_id) as session:
        kept = session.exec(select(Submission).where(col(Submission.form_id) == garden.form)).all()
        emails = [str(value) for one in kept for value in one.answers.values()]
    for sender in senders:
        count.ends["sent again"] += sender.again
        count.found += sender.odd
        for email in sender.acknowledged:
            times = emails.count(email)
            count.end("acknowledged", "" if times == 1 else f"{email} is kept {times} times")
