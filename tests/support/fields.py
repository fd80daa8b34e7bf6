"""Fields of the samples in the catalogue of problems and in the text fixtures."""

from datetime import UTC, date, datetime, time
from decimal import Decimal
from zoneinfo import ZoneInfo

from finesieve.core.language.checker import Checked, check
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.names import Place, World
from finesieve.core.values import DayOfYear, Type, Value

NAMES = {
    "plot_length": Type("number"),
    "plot_width": Type("number"),
    "depth": Type("number"),
    "name": Type("text"),
    "empty": Type("text"),
    "zone": Type(
        "choice",
        ("north", "hill", "south"),
        "zone",
        labels=("North end", "Hill", "South"),
        scores=(Decimal("2.5"), Decimal(0), Decimal(-1)),
    ),
    "home_zone": Type("choice", ("north", "river"), "home_zone"),
    "colour": Type("choice", ("red",), "colour"),
    "born": Type("date"),
    "limed_on": Type("date"),
    "fee": Type("money"),
    "price": Type("money"),
    "member": Type("yes_no"),
    "unsure": Type("yes_no"),
    "opens": Type("time"),
    "seen": Type("datetime"),
    "birthday": Type("day_of_year"),
    "crops": Type("choices", ("beans", "kale"), "crops"),
}
PLOT = Place(
    "record:1",
    {
        "area": Type("number"),
        "soil": Type("choice", ("clay", "sand"), "soil"),
        "limed_on": Type("date"),
        "leased_until": Type("date"),
    },
)
WORLD = World(
    Place("person", NAMES, {"plots": "record:1"}),
    {"record:1": PLOT},
    {"lost": "“Lost” was deleted; it can be brought back from the deleted fields."},
    {"house": {"link": Type("text"), "rate": Type("number")}},
    remembered=frozenset(NAMES),
)
ROW: dict[str, Value] = {
    "plot_length": Decimal("6"),
    "plot_width": Decimal("2.5"),
    "name": "Wren Castellan",
    "zone": "north",
    "home_zone": "north",
    "born": date(2000, 2, 29),
    "fee": Decimal("12.50"),
    "price": Decimal("4"),
    "member": True,
    "opens": time(9, 30),
    "seen": datetime(2026, 11, 24, 23, 30, tzinfo=UTC),
    "birthday": DayOfYear(2, 29),
    "plots": (  # type: ignore[dict-item]  # rows of a collection, oldest first
        {"area": Decimal(30), "soil": "clay", "limed_on": date(2024, 3, 1)},
        {"area": Decimal("12.5"), "soil": "sand", "limed_on": date(2025, 4, 1)},
        {"soil": "clay"},
    ),
}
MOMENT = Moment(
    datetime(2026, 11, 25, 10, 30, tzinfo=UTC), ZoneInfo("UTC"), {"link": "https://swap.example", "rate": Decimal(4)}
)


def checked(text: str, zone: str = "UTC") -> Checked:
    return check(text, WORLD, zone=ZoneInfo(zone))


def value_of(text: str, moment: Moment = MOMENT) -> Value:
    """The value of a sound expression for ROW."""
    found = check(text, WORLD, zone=moment.zone)
    assert found.typed is not None, found.problems
    return compile_python(found.typed)(ROW, moment)
