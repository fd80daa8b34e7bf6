"""Every kind of page of the office over a crowd: at most 300 ms of server time, also just after a value has changed."""

import statistics
import time

from starlette.testclient import TestClient

from finesieve.demo.load import DEMO_SLUG
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import set_tags
from finesieve.services.kernel.scope import Scope
from finesieve.services.people.listing import list_people

__all__ = ["office_pages"]

MOST_MS = 300
_PLAIN = """
. find?q=wren people people?q=wren people?q=zzqq people?sort=last_name people?sort=plot_area&down=yes
people?where=plot_area%20%3E%2030&sort=born orders orders?state=placed orders/1 sift sift/1 sift/2 sift/3
sift/1/tray/0/passes sift/1/tray/1/caught
collect collect/1 collect/1/publish collect/1/rehearse compute compute/new records follow-up follow-up/outbox define
define/house define/lists define/levels define/tags define/findings define/compare define/picture define/history
define/options define/deleted define/manner define/search?q=zo
""".replace(".", "", 1).split()


def office_pages(client: TestClient, scope: Scope) -> bool:
    """The median of three visits to each page, before each of which somebody's tags have changed."""
    catalogue = read_catalogue(scope)
    person = list_people(scope, limit=1).lines[0].id
    paths = ["", *_PLAIN, f"people/{person}", *(f"define/{group.id}" for group in catalogue.all_groups)]
    paths += [f"define/fields/{field.id}" for field in catalogue.all_fields if not field.derived]
    paths += [f"compute/{field.id}" for field in catalogue.derived]
    paths += [f"define/fields/{field.id}/options" for field in catalogue.stored if field.options]
    took: dict[str, float] = {}
    for path in paths:
        visits = []
        for number in range(3):
            set_tags(scope, person, f"visit {number}")
            started = time.perf_counter()
            answer = client.get(f"/w/{DEMO_SLUG}/{path}", follow_redirects=True)
            visits.append((time.perf_counter() - started) * 1_000)
            assert answer.status_code == 200, (path, answer.status_code)
        took[path] = statistics.median(visits)
    slowest = sorted(took.items(), key=lambda one: -one[1])
    kept = slowest[0][1] <= MOST_MS
    words = ", ".join(f"/{path} {ms:.0f}" for path, ms in slowest[:8])
    verdict = "kept" if kept else "BROKEN"
    print(f"{len(took)} pages of the office, the slowest in ms: {words} (at most {MOST_MS}) {verdict}")
    return kept
