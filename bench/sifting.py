"""Compute and Sift over everybody, each against the best SQL written by hand on the same tables, in the same run."""

import time
from collections.abc import Callable

from sqlalchemy import text

from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.compute.keeping import keep_field, stop_keeping
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.scope import Scope
from finesieve.services.kernel.tasks import run_task
from finesieve.services.people.listing import Listing, list_people
from finesieve.services.sift.effect import effect_of
from finesieve.services.sift.export import ExportInput, export_segment
from finesieve.services.sift.over_time import note_sizes
from finesieve.services.sift.overlap import overlap_of
from finesieve.services.sift.segments import SegmentInput, change_segment, count_segment, create_segment, read_segment
from finesieve.services.sift.versions import Strand
from finesieve.store.reading.kept import forget, in_a_hurry

__all__ = ["sifting"]

_ROUNDS = 8
Alternating = Callable[..., tuple[float, float]]
Report = Callable[[str, float, float, float], bool]

_FIVE = 'zone in ("north", "hill") and plot_length > 6 and swaps_seed and plot_width >= 2 and soil != "clay"'
_NESTED = (
    'zone in ("north", "hill") and (plot_length > 6 or plot_width > 4) and not (soil = "clay" and swaps_seed) '
    'and (born is filled or phone is filled) and watering != "drip"'
)
_LARGE, _MANY = "plot_length > 6", 50
_EXPORTED = (
    "email", "first_name", "last_name", "phone", "born", "zone", "plot_length", "plot_width", "soil", "watering",
)  # fmt: skip


class _Bench:
    def __init__(self, scope: Scope, alternating: Alternating, report: Report) -> None:
        self.scope, self.alternating, self.report = scope, alternating, report
        catalogue = read_catalogue(scope)
        self.schema = f"w_{scope.workspace_id}"
        self.f = {key: field.column for key, field in catalogue.by_key.items() if field.stores}
        self.plot = {field.key: field.column for field in catalogue.fields_about("record:1")}
        self.zone = catalogue.by_key["zone"].id
        self.link = next(link.id for link in catalogue.links.values() if link.back_key == "plots")

    def segment(self, name: str, expression: str) -> int:
        segment = create_segment(self.scope, name)
        change_segment(self.scope, segment, 1, SegmentInput(name=name, expression=expression))
        return segment

    def by_hand(self, query: str) -> Callable[[], int]:
        """Runs a query that gives one number."""

        def run() -> int:
            with self.scope.store.transaction(self.scope.workspace_id) as session:
                return int(session.execute(text(query)).scalar_one() or 0)

        return run

    def anew(self, ask: Callable[[], object]) -> Callable[[], object]:
        """Asks with nothing kept."""

        def run() -> object:
            forget()
            return ask()

        return run

    def against(self, what: str, ours: Callable[[], object], theirs: Callable[[], object], most: float) -> bool:
        return self.report(what, *self.alternating(ours, theirs, rounds=_ROUNDS), most)

    def count(self, what: str, expression: str, query: str, most: float) -> bool:
        """A segment counted, against the same by hand; both must come to the same."""
        segment, theirs = self.segment(what, expression), self.by_hand(query)
        ours = self.anew(lambda: count_segment(self.scope, segment))
        counted, expected = ours(), theirs()
        assert counted == expected, (what, counted, expected)
        return self.against(f"{what}, {expected:,} people pass", ours, theirs, most)

    def people(self, where: str) -> str:
        return f"SELECT count(*) FROM {self.schema}.person AS p WHERE {where}"


def sifting(scope: Scope, alternating: Alternating, report: Report) -> bool:
    """All of it; whether every bound is kept."""
    bench = _Bench(scope, alternating, report)
    kept = [*_conditions(bench), *_views(bench), *_lists(bench), *_whole(bench), _preview(bench), *_kept(bench)]
    return all(kept)


def _conditions(bench: _Bench) -> list[bool]:
    f, plot, schema = bench.f, bench.plot, bench.schema
    five = (
        f"{f['zone']} IN ('north', 'hill') AND {f['plot_length']} > 6 AND {f['swaps_seed']} AND {f['plot_width']} >= 2 "
        f"AND {f['soil']} <> 'clay'"
    )
    records = (
        f"SELECT count(*) FROM {schema}.person AS p JOIN (SELECT l.target_id, sum(r.{plot['length']}) AS much FROM "
        f"{schema}.link AS l JOIN {schema}.record_1 AS r ON r.id = l.record_id WHERE l.link_id = {bench.link} AND "
        f"r.archived_at IS NULL AND r.{plot['soil']} = 'clay' GROUP BY 1) AS x ON x.target_id = p.id WHERE x.much > 6"
    )
    bench.segment("Large plots", _LARGE)
    line = (
        f"SELECT FROM history AS h WHERE h.workspace_id = {bench.scope.workspace_id} AND h.about = 'person' "
        f"AND h.field_id = {bench.zone} AND h.entity_id = p.id"
    )
    ever = f"EXISTS ({line} AND (h.new = '\"hill\"' OR h.old = '\"hill\"'))"
    since = (
        f"EXISTS ({line} AND h.at > current_date - 61 "
        "AND (h.at AT TIME ZONE 'Europe/London')::date > current_date - 60)"
    )
    return [
        bench.count("segment of five conditions", _FIVE, bench.people(five), 1.2),
        bench.count(
            "segment over records", 'sum(plots.length where soil = "clay") > 6', records, 1.3
        ),
        bench.count(
            "segment over another", "segment.large_plots and swaps_seed",
            bench.people(f"{f['plot_length']} > 6 AND {f['swaps_seed']}"), 1.3,
        ),
        bench.count("was in a zone at any time", 'ever_held(zone, "hill")', bench.people(ever), 1.5),
        bench.count(
            "changed in the last 60 days", "last_change(zone) > add_days(today(), -60)", bench.people(since), 1.5
        ),
    ]  # fmt: skip


def _views(bench: _Bench) -> list[bool]:
    scope = bench.scope
    nested = bench.segment("Nested", _NESTED)
    one = bench.anew(lambda: count_segment(scope, nested))
    four = [
        bench.segment(f"Of four {number}", expression)
        for number, expression in enumerate(
            ('zone = "north"', "plot_length > 5", "swaps_seed", 'soil in ("sand", "loam")'), 1
        )
    ]
    every = bench.anew(lambda: overlap_of(scope, [Strand(one) for one in four]))
    one_of_four = bench.anew(lambda: count_segment(scope, four[1]))
    for number in range(_MANY - 20):
        bench.segment(f"One of many {number}", f"plot_length > {number / 5} and plot_width < {20 - number / 5}")
    return [
        bench.against("a sieve of five meshes, nested", bench.anew(lambda: read_segment(scope, nested)), one, 3),
        bench.against("the overlap of four segments, every region", every, one_of_four, 2),
        bench.against("the sizes of fifty segments for a day", bench.anew(lambda: note_sizes(scope)), one_of_four, 6),
    ]


def _lists(bench: _Bench) -> list[bool]:
    f, schema, scope = bench.f, bench.schema, bench.scope
    listing = Listing(
        columns=("zone", "plot_length"), where='zone = "north" and swaps_seed', sort="plot_length", down=True
    )
    of_a_page = (
        f"SELECT id, {f['first_name']}, {f['last_name']}, {f['email']}, {f['zone']}, {f['plot_length']} "
        f"FROM {schema}.person WHERE {f['zone']} = 'north' AND {f['swaps_seed']} {{after}} "
        f"ORDER BY {f['plot_length']} DESC NULLS LAST, id DESC LIMIT 51"
    )
    matching = bench.people(f"{f['zone']} = 'north' AND {f['swaps_seed']}")

    def by_hand(after: str = "") -> Callable[[], object]:
        def run() -> None:
            with scope.store.engine.connect() as connection:
                connection.execute(text(of_a_page.format(after=after))).all()
                connection.execute(text(matching)).all()
                connection.execute(text(f"SELECT count(*) FROM {schema}.person")).all()

        return run

    page = list_people(scope, listing)
    for _ in range(20):
        page = list_people(scope, listing, after=page.after)
    last, last_id = page.after.rsplit(".", 1)[0], page.lines[-1].id
    there = f"AND ({f['plot_length']} < {_number_of(page.lines[-1].cells[1])} OR ({f['plot_length']} = "
    there += f"{_number_of(page.lines[-1].cells[1])} AND id < {last_id}) OR {f['plot_length']} IS NULL)"
    assert last
    return [
        bench.against("the first page of a list", bench.anew(lambda: list_people(scope, listing)), by_hand(), 1.5),
        bench.against(
            "a page far down", bench.anew(lambda: list_people(scope, listing, after=page.after)), by_hand(there), 1.5
        ),
        _at_most("a search by part of a name", lambda: list_people(scope, search="wre"), 0.1),
    ]


def _number_of(cell: str) -> str:
    return cell.split(maxsplit=1)[0].replace(",", "")


def _whole(bench: _Bench) -> list[bool]:
    """What goes through everybody to the end."""
    f, scope = bench.f, bench.scope
    everybody = bench.segment("Everybody", "email is filled")
    columns = ", ".join(f[key] for key in _EXPORTED)

    def raw() -> int:
        connection = scope.store.engine.raw_connection()
        try:
            query = f"COPY (SELECT {columns} FROM {bench.schema}.person) TO STDOUT (FORMAT csv)"
            with connection.cursor() as cursor, cursor.copy(query) as copy:  # type: ignore[attr-defined]  # psycopg's own
                return sum(len(chunk) for chunk in copy)
        finally:
            connection.close()

    def ours() -> int:
        _, lines = export_segment(scope, everybody, ExportInput(columns=_EXPORTED))
        return sum(len(line) for line in lines)

    times = []
    for run in (raw, ours):
        started = time.perf_counter()
        run()
        times.append(time.perf_counter() - started)
    return [bench.report("an export of everybody, ten columns, against COPY TO", times[1], times[0], 2)]


def _preview(bench: _Bench) -> bool:
    formula = 'if(zone = "north", plot_length * plot_width * 1.2, plot_length * plot_width)'
    create_derived(bench.scope, DerivedInput(label="Previewed", formula="plot_length + plot_width"))
    return _at_most(
        "what a changed formula does to everybody, first picture",
        lambda: effect_of(bench.scope, formula, "previewed"),
        1,
    )


def _kept(bench: _Bench) -> list[bool]:
    """A kept derived field, built against a table made by hand, and read against a column; three times each."""
    scope, f, schema = bench.scope, bench.f, bench.schema
    formula = 'if(zone = "north", plot_length * plot_width * 1.2, plot_length * plot_width)'
    field = create_derived(scope, DerivedInput(label="Bench kept", formula=formula))
    area, zone = f"{f['plot_length']} * {f['plot_width']}", f["zone"]
    value = f"CASE WHEN {zone} = 'north' THEN {area} * 1.2 WHEN {zone} <> 'north' THEN {area} END"
    by_hand = (
        f"DROP TABLE IF EXISTS {schema}.by_hand",
        f"CREATE TABLE {schema}.by_hand AS SELECT id, {value} AS value FROM {schema}.person",
        f"ALTER TABLE {schema}.by_hand ADD PRIMARY KEY (id)",
    )  # fmt: skip

    def ours() -> None:
        stop_keeping(scope, field)
        assert run_task(scope.store, scope.workspace_id, keep_field(scope, field), scope.clock) == "done"

    def theirs() -> None:
        with scope.store.transaction(scope.workspace_id) as session:
            for statement in by_hand:
                session.execute(text(statement))

    built = bench.report("a kept derived field built", *bench.alternating(ours, theirs, rounds=3), 1.3)
    read = bench.count(
        "segment over a kept field", "bench_kept > 60",
        f"SELECT count(*) FROM {schema}.person AS p JOIN {schema}.by_hand AS k ON k.id = p.id WHERE k.value > 60", 1.3,
    )  # fmt: skip
    return [built, read]


def _at_most(what: str, ask: Callable[[], object], seconds: float) -> bool:
    found: list[float] = []
    for _ in range(5):
        forget()
        started = time.perf_counter()
        with in_a_hurry():  # as every page is, which shows an estimate first where the figure takes longer
            ask()
        found.append(time.perf_counter() - started)
    best = sorted(found)[len(found) // 4]
    print(f"{what}: {best * 1000:.0f} ms (at most {seconds * 1000:.0f}) {'kept' if best <= seconds else 'BROKEN'}")
    return best <= seconds
