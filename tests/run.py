"""Run the tests: whole suites (`core`, `store`, …) or all, on a few processes with a database each.

Usage: python -m tests.run [suite …] [--changed [COMMIT]]

With --changed only what differs from the last commit, or from the one named, is tested.
"""

import io
import multiprocessing
import os
import shutil
import sys
import time
import traceback
import unittest
import warnings
from pathlib import Path

from finesieve.localdb import LocalPostgres
from tests.support import database
from tests.touched import touched

SUITES = ("core", "store", "services", "web", "browser")
WITHOUT_DATABASE = ("core",)
_AT_ONCE = 2
"""Processes: as many as a small machine has cores."""
SLOWEST_FIRST = (
    "test_setting_up",
    "test_attack",
    "test_every_page",
    "test_membership",
    "test_journey",
    "test_both_ways",
    "test_demo",
    "test_shop",
    "test_pages",
    "test_files",
    "test_worker",
    "test_public",
    "test_language",
)


def _modules(suites: list[str]) -> list[str]:
    here = Path(__file__).parent
    found = [f"tests.{suite}.{path.stem}" for suite in suites for path in sorted((here / suite).glob("test_*.py"))]
    order = {name: place for place, name in enumerate(SLOWEST_FIRST)}
    return sorted(found, key=lambda name: order.get(name.rsplit(".", 1)[1], len(order)))


def _work(
    url: str,
    jobs: "multiprocessing.Queue[str | None]",
    results: "multiprocessing.Queue[tuple[str, int, int, int, str, float]]",
) -> None:
    if url:
        os.environ[database.URL] = url
    warnings.simplefilter("error")
    # A library of the browser driver's; nothing of ours.
    warnings.filterwarnings("ignore", category=DeprecationWarning, module="websocket")
    while (name := jobs.get()) is not None:
        started = time.monotonic()
        stream = io.StringIO()
        try:
            tests = unittest.defaultTestLoader.loadTestsFromName(name)
        except Exception:  # a module that cannot be loaded is a failure to report, not the end of the run
            results.put((name, 0, 1, 0, traceback.format_exc(), time.monotonic() - started))
            continue
        outcome = unittest.TextTestRunner(stream, verbosity=0, warnings="error").run(tests)
        # A test whose parts fail several times has failed once.
        broken = {getattr(test, "test_case", test).id() for test, _ in outcome.failures + outcome.errors}
        failed = len(broken) + len(outcome.unexpectedSuccesses)
        skipped = len(outcome.skipped)
        report = stream.getvalue() if failed else ""
        results.put((name, outcome.testsRun - failed - skipped, failed, skipped, report, time.monotonic() - started))
    results.put(("", 0, 0, 0, "", 0.0))


def _report(
    results: "multiprocessing.Queue[tuple[str, int, int, int, str, float]]", running: int
) -> tuple[int, int, int]:
    """Print what comes in until all workers are done; gives passed, failed, skipped."""
    passed = failed = skipped = 0
    while running:
        name, good, bad, left, report, seconds = results.get(timeout=900)
        if not name:
            running -= 1
            continue
        passed, failed, skipped = passed + good, failed + bad, skipped + left
        print(f"{'ok  ' if not bad else 'FAIL'} {name} ({good + bad + left} in {seconds:.1f} s)", flush=True)
        if report:
            print(report, flush=True)
    return passed, failed, skipped


def _run_all(modules: list[str], server: LocalPostgres | None) -> tuple[int, int, int]:
    context = multiprocessing.get_context("spawn")
    jobs, results = context.Queue(), context.Queue()
    workers = []
    for number in range(min(_AT_ONCE, len(modules))):
        url = database.clone(server, f"worker{number}") if server else ""
        workers.append(context.Process(target=_work, args=(url, jobs, results)))
    for name in [*modules, *(None for _ in workers)]:
        jobs.put(name)
    try:
        for worker in workers:
            worker.start()
        counts = _report(results, len(workers))
        for worker in workers:
            worker.join(30)
        return counts
    finally:
        for worker in workers:
            if worker.is_alive():
                worker.terminate()


def main(arguments: list[str]) -> int:
    """Run and report; 0 when all passed."""
    since = ""
    if "--changed" in arguments:
        place = arguments.index("--changed")
        since = next(iter(arguments[place + 1 :]), "HEAD")
        arguments = arguments[:place]
    unknown = [name for name in arguments if name not in SUITES]
    if unknown:
        print(f"no such suite: {unknown[0]}; there are {', '.join(SUITES)}", file=sys.stderr)
        return 2
    suites = arguments or list(SUITES)
    modules = touched(_modules(suites), since) if since else _modules(suites)
    if not modules:
        print("nothing that a test looks at has changed")
        return 0
    alone = all(name.split(".")[1] in WITHOUT_DATABASE for name in modules)
    server = None if alone else database.start_server()
    try:
        passed, failed, skipped = _run_all(modules, server)
    finally:
        if server:
            server.remove()
            shutil.rmtree(server.home, ignore_errors=True)
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
