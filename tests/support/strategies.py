"""Generated expressions that are well typed by construction, and data for them."""

import unicodedata
from datetime import UTC, date, datetime, time
from decimal import Decimal
from functools import cache
from zoneinfo import ZoneInfo

from hypothesis import strategies as st
from hypothesis.strategies import SearchStrategy

from finesieve.core.language import tree
from finesieve.core.language.names import Place, World
from finesieve.core.language.relations import SPANS, relations_for
from finesieve.core.language.sentence import Clause, Collected, Names, Sentence
from finesieve.core.values import DayOfYear, Type, Value, plain_number

NAMES: dict[str, Type] = {
    "plot_length": Type("number"),
    "plot_width": Type("number"),
    "fee": Type("money"),
    "name": Type("text"),
    "note": Type("text"),
    "zone": Type("choice", ("north", "hill", "south"), "zone"),
    "born": Type("date"),
    "limed_on": Type("date"),
    "member": Type("yes_no"),
    "seen": Type("datetime"),
    "opens": Type("time"),
    "birthday": Type("day_of_year"),
}

PLOT: dict[str, Type] = {
    "area": Type("number"),
    "soil": Type("choice", ("clay", "sand"), "soil"),
    "limed_on": Type("date"),
    "leased": Type("yes_no"),
}
CROPS = Type(
    "choices",
    ("beans", "kale", "leek"),
    "crops",
    labels=("Long beans", "Kale", "Leek"),
    scores=(Decimal(1), Decimal("0.25"), Decimal(0)),
)
WORLD = World(
    Place("person", NAMES | {"crops": CROPS}, {"plots": "record:1"}),
    {"record:1": Place("record:1", PLOT)},
    remembered=frozenset(NAMES) | {"crops"},
)
"""The same fields, with a multiple choice and the records of the person in reach."""

_EDGES = (
    "0",
    "1",
    "-1",
    "0.5",
    "2.5",
    "-2.5",
    "0.0000000001",
    "999999999999999",
    "-999999999999999",
    "3",
    "7",
    "365250",
)
numbers = st.one_of(
    st.sampled_from(_EDGES).map(Decimal),
    st.decimals("-1000", "1000", places=2),
    st.decimals("-1e14", "1e14", places=10),
).map(lambda number: number + 0)
texts = st.one_of(
    st.sampled_from(["Bean", "bean", "ΣΑΣ", "σας", "İl", "ß", "a_b", "100%", "naïve", 'say "x"', "c:\\d", "tab\tbed"]),
    st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), min_size=1, max_size=8),
)
dates = st.one_of(
    st.sampled_from([date(1, 1, 1), date(9999, 12, 31), date(2000, 2, 29), date(2024, 2, 28), date(2026, 11, 25)]),
    st.dates(date(1900, 1, 1), date(2100, 1, 1)),
)
_OF_KIND: dict[str, SearchStrategy[Value]] = {
    "number": numbers,
    "money": st.decimals("-1e6", "1e6", places=2).map(lambda number: number + 0),
    "text": texts,
    "date": dates,
    "yes_no": st.booleans(),
    "datetime": st.one_of(
        st.sampled_from([datetime(2026, 3, 29, 0, 59, 59, tzinfo=UTC), datetime(2026, 3, 29, 1, 0, tzinfo=UTC)]),
        st.sampled_from([datetime(2026, 10, 25, 0, 30, tzinfo=UTC), datetime(2026, 10, 25, 1, 30, tzinfo=UTC)]),
        st.datetimes(datetime(1950, 1, 1), datetime(2090, 1, 1), timezones=st.just(UTC)).map(
            lambda moment: moment.replace(microsecond=0)
        ),
    ),
    "time": st.one_of(
        st.sampled_from([time(0), time(23, 59, 59)]), st.times().map(lambda one: one.replace(microsecond=0))
    ),
    "day_of_year": st.one_of(
        st.sampled_from([DayOfYear(2, 29), DayOfYear(1, 1), DayOfYear(12, 31)]),
        st.dates(date(2000, 1, 1), date(2000, 12, 31)).map(lambda day: DayOfYear(day.month, day.day)),
    ),
}
zones = st.sampled_from(["UTC", "Europe/London", "Asia/Kathmandu", "America/New_York", "Pacific/Kiritimati"]).map(
    ZoneInfo
)


def _value(type_: Type) -> SearchStrategy[Value]:
    filled = st.sampled_from(type_.options) if type_.options else _OF_KIND[type_.kind]
    return st.one_of(st.none(), filled, filled, filled)


_plots = st.lists(st.fixed_dictionaries({key: _value(type_) for key, type_ in PLOT.items()}), max_size=4).map(tuple)
_crops = st.one_of(st.none(), st.sets(st.sampled_from(["beans", "kale", "leek"]), min_size=1).map(tuple))
rows: SearchStrategy[dict[str, Value]] = st.fixed_dictionaries(
    {key: _value(type_) for key, type_ in NAMES.items()} | {"plots": _plots, "crops": _crops}
)


@cache
def _names(kind: str) -> SearchStrategy[tree.Node]:
    return st.sampled_from([key for key, type_ in NAMES.items() if type_.kind == kind]).map(
        lambda key: tree.Name((key,))
    )


literals = st.one_of(
    numbers.map(tree.Number),
    st.integers(0, 300).map(lambda percent: tree.Number(Decimal(percent).scaleb(-2), percent=True)),
)
_days = st.one_of(st.sampled_from([-365250, 365250, 365251, 0, 1]), st.integers(-4000, 4000)).map(
    lambda days: tree.Number(Decimal(days))
)
_date_text = dates.map(lambda day: tree.Text(day.isoformat()))


def _negated(node: tree.Node) -> tree.Node:
    # The parser folds a minus into an unsigned literal; the same is done here.
    return (
        tree.Number(0 - node.value, node.percent)
        if isinstance(node, tree.Number) and node.value >= 0
        else tree.Negate(node)
    )


def _call(name: str, *parts: SearchStrategy[tree.Node]) -> SearchStrategy[tree.Node]:
    return st.tuples(*parts).map(lambda arguments: tree.Call(name, arguments))


def _arithmetic(
    signs: str, left: SearchStrategy[tree.Node], right: SearchStrategy[tree.Node]
) -> SearchStrategy[tree.Node]:
    return st.builds(tree.Arithmetic, st.sampled_from(signs), left, right)


@cache
def expressions(kind: str, depth: int = 3) -> SearchStrategy[tree.Node]:
    """Trees of this kind, at most so many operations deep."""
    return {"number": _number, "money": _money, "date": _date, "yes_no": _yes_no, "text": _text}[kind](depth)


@cache
def _any_kind(kind: str, depth: int) -> SearchStrategy[tree.Node]:
    """What every kind can be made of: a choice between two, the first that is filled."""
    inner = expressions(kind, depth - 1)
    named = _names(kind)
    return st.one_of(
        _call("if", expressions("yes_no", depth - 1), inner, st.one_of(named, st.just(tree.Blank()))),
        st.tuples(named, inner).map(lambda parts: tree.Else(parts)),
    )


@cache
def _number(depth: int) -> SearchStrategy[tree.Node]:
    leaf = st.one_of(literals, _names("number"))
    if not depth:
        return leaf
    inner = st.deferred(lambda: _number(depth - 1))
    day = st.deferred(lambda: _date(depth - 1))
    return st.one_of(
        leaf,
        _arithmetic("+-*/", inner, inner),
        inner.map(_negated),
        _call("round", inner),
        _call("round", inner, st.integers(-16, 11).map(lambda places: tree.Number(Decimal(places)))),
        st.lists(inner, min_size=1, max_size=4).flatmap(
            lambda parts: st.sampled_from(["sum", "min", "max"]).map(lambda name: tree.Call(name, tuple(parts)))
        ),
        _call("years_between", day, day),
        _library_numbers(depth),
        _call("age", day),
        _arithmetic("-", day, day),
        _any_kind("number", depth),
    )


@cache
def _money(depth: int) -> SearchStrategy[tree.Node]:
    leaf = _names("money")
    if not depth:
        return leaf
    inner = st.deferred(lambda: _money(depth - 1))
    return st.one_of(
        leaf, _arithmetic("*/", inner, _number(depth - 1)), _arithmetic("+-", inner, inner), _call("round", inner)
    )


@cache
def _date(depth: int) -> SearchStrategy[tree.Node]:
    leaf = st.one_of(
        _names("date"), st.sampled_from([tree.Call("today", ()), tree.Call("date", (tree.Name(("seen",)),))])
    )
    if not depth:
        return leaf
    inner = st.deferred(lambda: _date(depth - 1))
    return st.one_of(
        leaf,
        _arithmetic("+-", inner, _days),
        _arithmetic("+", _days, inner),
        st.tuples(inner, _names("date")).map(lambda parts: tree.Call("max", parts)),
        _library_dates(depth),
        _any_kind("date", depth),
    )


@cache
def _text(depth: int) -> SearchStrategy[tree.Node]:
    leaf = st.one_of(_names("text"), texts.map(tree.Text))
    return leaf if not depth else st.one_of(leaf, _any_kind("text", depth), _library_texts(depth))


_counts = st.one_of(st.integers(-2, 12), st.sampled_from([100, 101, 12_000, 12_001, 1_000])).map(
    lambda count: tree.Number(Decimal(count))
)


@cache
def _library_numbers(depth: int) -> SearchStrategy[tree.Node]:
    """The plain functions that give numbers, over anything."""
    inner, day, words = _number(depth - 1), _date(depth - 1), _text(depth - 1)
    return st.one_of(
        *(_call(name, inner) for name in ("floor", "ceil", "abs")),
        _call("clamp", inner, inner, inner),
        _call("power", inner, _counts),
        _call("power", inner, inner),
        _call("remainder", inner, inner),
        _call("length", words),
        _call("number", st.one_of(words, inner.map(lambda _: tree.Text(" 12.50 ")))),
        _call("days_between", day, day),
        _call("months_between", day, day),
        *(_call(name, day) for name in ("year", "month", "day", "weekday", "days_until")),
        st.lists(inner, min_size=1, max_size=3).map(lambda parts: tree.Call("average", tuple(parts))),
        st.tuples(inner, day, words).map(lambda parts: tree.Call("count_filled", parts)),
        st.tuples(inner, inner).map(
            lambda parts: tree.Call("pick", (tree.Name(("zone",)), tree.Text("north"), parts[0], parts[1]))
        ),
    )


@cache
def _library_dates(depth: int) -> SearchStrategy[tree.Node]:
    """The plain functions that give dates."""
    inner = _date(depth - 1)
    parts = st.integers(-1, 32).map(lambda part: tree.Number(Decimal(part)))
    years = st.sampled_from([0, 1, 1999, 2000, 2026, 9999, 10_000]).map(lambda year: tree.Number(Decimal(year)))
    return st.one_of(
        *(
            _call(name, inner, st.one_of(_counts, _number(depth - 1)))
            for name in ("add_days", "add_months", "add_years")
        ),
        _call("date", years, parts, parts),
        _call("next_anniversary", st.one_of(inner, _names("day_of_year"))),
    )


@cache
def _library_texts(depth: int) -> SearchStrategy[tree.Node]:
    """The plain functions that give texts."""
    inner = _text(depth - 1)
    return st.one_of(
        *(_call(name, inner) for name in ("lower", "upper", "trim")),
        _call("replace", inner, inner, inner),
        _call(
            "text", st.one_of(_names("number"), _names("money"), _names("date"), _names("day_of_year"), _names("time"))
        ),
        st.lists(st.one_of(_names("text"), inner), min_size=2, max_size=3).map(
            lambda parts: (
                tree.Join(tuple(part for part in parts if not isinstance(part, tree.Join)) or tuple(parts))
                if len([part for part in parts if not isinstance(part, tree.Join)]) > 1
                else parts[0]
            )
        ),
        *(_call(name, inner, st.one_of(_counts, _number(depth - 1))) for name in ("left", "right")),
    )


_PATTERNS = (".*", "[A-Za-z]+", "b.*", "\\p{L}+", "(?i)bean", "[^a-z]*")
_moments = _OF_KIND["datetime"].map(lambda moment: tree.Text(f"{moment:%Y-%m-%dT%H:%M:%S}"))
_times = _OF_KIND["time"].map(lambda one: tree.Text(f"{one:%H:%M:%S}"))
_birthdays = _OF_KIND["day_of_year"].map(lambda day: tree.Text(str(day)))


@cache
def _yes_no(depth: int) -> SearchStrategy[tree.Node]:
    leaf = st.one_of(_names("yes_no"), st.booleans().map(tree.YesNo))
    if not depth:
        return leaf
    inner = st.deferred(lambda: _yes_no(depth - 1))
    number, day, words = _number(depth - 1), _date(depth - 1), _text(depth - 1)
    signs = st.sampled_from(["=", "!=", "<", "<=", ">", ">="])
    zone = tree.Name(("zone",))
    options = st.lists(st.sampled_from(NAMES["zone"].options), min_size=1, max_size=3).map(
        lambda chosen: tuple(tree.Text(option) for option in chosen)
    )
    return st.one_of(
        leaf,
        inner.map(tree.Not),
        st.builds(tree.Chain, st.sampled_from(["and", "or"]), st.lists(inner, min_size=2, max_size=4).map(tuple)),
        st.builds(tree.Compare, signs, number, number),
        st.builds(tree.Compare, signs, day, st.one_of(day, _date_text)),
        st.builds(tree.Compare, st.sampled_from(["=", "!="]), words, words),
        st.builds(tree.Between, number, number, number),
        st.builds(tree.Between, day, _date_text, day),
        st.builds(tree.In, st.just(zone), options, st.booleans()),
        st.builds(
            tree.In, number, st.lists(numbers.map(tree.Number), min_size=1, max_size=4).map(tuple), st.booleans()
        ),
        st.builds(tree.TextTest, st.sampled_from(["contains", "starts with", "ends with"]), words, words),
        st.builds(tree.IsBlank, st.one_of(number, day, words, st.just(zone), inner), st.booleans()),
        st.builds(tree.Compare, st.sampled_from(["=", "!="]), inner, inner),
        st.builds(
            tree.In, inner, st.lists(st.booleans().map(tree.YesNo), min_size=1, max_size=2).map(tuple), st.booleans()
        ),
        _any_kind("yes_no", depth),
        st.builds(
            lambda words, pattern: tree.TextTest("matches", words, tree.Text(pattern)),
            words,
            st.sampled_from(_PATTERNS),
        ),
        st.builds(tree.Compare, signs, st.just(tree.Name(("seen",))), st.one_of(day, _moments)),
        st.builds(tree.Compare, signs, st.just(tree.Name(("opens",))), _times),
        st.builds(tree.Compare, signs, st.just(tree.Name(("birthday",))), _birthdays),
    )


any_expression = st.sampled_from(["number", "money", "date", "yes_no", "text"]).flatmap(expressions)


def _plot(key: str) -> tree.Name:
    return tree.Name((key,))


@cache
def _where() -> SearchStrategy[tree.Node]:
    """A condition over a plot, the person in reach."""
    return st.one_of(
        st.builds(
            tree.Compare, st.sampled_from(["<", ">=", "=", "!="]), st.just(_plot("area")), expressions("number", 1)
        ),
        st.sampled_from(["clay", "sand"]).map(lambda soil: tree.Compare("=", _plot("soil"), tree.Text(soil))),
        st.just(_plot("leased")),
        st.just(tree.IsBlank(tree.Name(("record", "limed_on")))),
        st.tuples(st.just(_plot("leased")), expressions("yes_no", 1)).map(lambda parts: tree.Chain("or", parts)),
        # What reads nothing of the plot, and only the person.
        expressions("yes_no", 1),
    )


def _over(keys: list[str], *, by: bool = False) -> SearchStrategy[tree.Node]:
    """A column of the plots, perhaps with a condition and an order."""
    column = st.sampled_from(keys).map(lambda key: tree.Name(("plots", key)) if key else tree.Name(("plots",)))
    order = st.one_of(st.none(), st.sampled_from(["area", "limed_on"]).map(_plot)) if by else st.none()
    return st.builds(
        lambda operand, where, order: tree.Filtered(operand, where, order) if where or order else operand,
        column,
        st.one_of(st.none(), _where()),
        order,
    )


def _collected(functions: list[str], keys: list[str], *, by: bool = False) -> SearchStrategy[tree.Node]:
    return st.builds(lambda name, part: tree.Call(name, (part,)), st.sampled_from(functions), _over(keys, by=by))


_items = st.lists(st.sampled_from(["beans", "kale", "leek"]).map(tree.Text), min_size=1, max_size=3).map(tuple)
_holds = st.builds(tree.Holds, st.sampled_from(["any", "every", "no"]), st.just(tree.Name(("crops",))), _items)
collecting = st.one_of(
    _collected(["count"], [""]),
    _collected(["sum", "average", "min", "max", "count_filled"], ["area"]),
    _collected(["latest", "first"], ["area"], by=True),
    _collected(["count_filled"], ["limed_on", "soil"]),
    st.sampled_from(["count", "score"]).map(lambda name: tree.Call(name, (tree.Name(("crops",)),))),
    st.just(tree.Call("score", (tree.Name(("zone",)),))),
    texts.map(lambda words: tree.Call("length", (tree.Call("join", (tree.Name(("crops",)), tree.Text(words))),))),
)
"""Numbers over the records of a person; over several choices."""
collecting_verdicts = st.one_of(
    st.builds(lambda where: tree.Call("any", (tree.Filtered(tree.Name(("plots",)), where),)), _where()),
    st.builds(lambda where: tree.Call("all", (tree.Filtered(tree.Name(("plots",)), where),)), _where()),
    _collected(["latest", "first"], ["leased"], by=True),
    _holds,
    st.just(tree.Call("any", (tree.Name(("plots",)),))),
)
collecting_others = st.one_of(
    texts.map(lambda words: tree.Call("join", (tree.Name(("crops",)), tree.Text(words)))),
    st.just(tree.Call("join", (tree.Name(("crops",)), tree.Name(("note",))))),
    st.just(tree.Call("label", (tree.Name(("zone",)),))),
    _collected(["latest", "first", "min", "max"], ["limed_on"]),
    _collected(["latest", "first"], ["soil"], by=True),
)
any_collecting: SearchStrategy[tree.Node] = st.one_of(
    collecting,
    collecting_verdicts,
    collecting_others,
    st.builds(tree.Arithmetic, st.sampled_from("+-*/"), collecting, st.deferred(lambda: expressions("number", 1))),
    st.tuples(collecting_verdicts, st.deferred(lambda: expressions("yes_no", 1))).map(
        lambda parts: tree.Chain("and", parts)
    ),
)


SPOKEN = Names({**NAMES, "crops": CROPS}, {"plots": PLOT}, frozenset(NAMES))
"""What those sentences speak of."""

# Sentences -----------------------------------------------------------------------------------

_WRITTEN = {
    "number": numbers.map(plain_number),
    "money": st.decimals("-100", "100", places=2).map(lambda number: plain_number(number + 0)),
    "text": st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc", "Z")), min_size=1, max_size=8).map(
        lambda text: unicodedata.normalize("NFC", text)
    ),
    "date": dates.map(date.isoformat),
    "time": _OF_KIND["time"].map(lambda one: f"{one:%H:%M:%S}"),
    "datetime": _OF_KIND["datetime"].map(lambda moment: f"{moment:%Y-%m-%dT%H:%M:%S}"),
    "day_of_year": _OF_KIND["day_of_year"].map(str),
}


@st.composite
def _clauses(draw: st.DrawFn, names: dict[str, Type]) -> Clause:
    key = draw(st.sampled_from([*names]))
    type_ = names[key]
    past = names is not PLOT and key in SPOKEN.past
    relation = draw(st.sampled_from([one for one in relations_for(type_, past=past) if one.id != "matches"]))
    if relation.takes in ("number", "numbers", "span"):
        values = [str(draw(st.integers(0, 400))) for _ in range(2 if relation.takes == "numbers" else 1)]
        return Clause(
            key, relation.id, (*values, *([draw(st.sampled_from(SPANS))] if relation.takes == "span" else ()))
        )
    one = st.sampled_from(type_.options) if type_.options else _WRITTEN.get(type_.kind, st.nothing())
    if relation.takes in ("day", "one on"):
        day = str(draw(dates))
        return Clause(key, relation.id, (draw(one), day) if relation.takes == "one on" else (day,))
    few = draw(st.integers(1, 3)) if relation.takes == "some" else relation.count[0]
    few = min(few, len(type_.options)) if relation.takes == "some" else few
    values = draw(st.lists(one, min_size=few, max_size=few, unique=relation.takes == "some")) if few else []
    return Clause(key, relation.id, tuple(values))


@st.composite
def _of_records(draw: st.DrawFn) -> Collected:
    where = draw(st.one_of(st.none(), sentences(PLOT, groups=False)))
    measure = draw(st.sampled_from(["any", "no", "all", "count", "sum", "max"]))
    if measure in ("any", "no", "all"):
        return Collected("plots", measure, where or draw(sentences(PLOT, groups=False)))
    column = {"count": "", "sum": "area", "max": "limed_on"}[measure]
    if measure == "max":
        return Collected("plots", measure, where, column, "<", (str(draw(st.dates())),))
    return Collected(
        "plots", measure, where, column, draw(st.sampled_from([">", "<=", "="])), (str(draw(st.integers(0, 99))),)
    )


@st.composite
def sentences(draw: st.DrawFn, names: dict[str, Type] | None = None, *, groups: bool = True) -> Sentence:
    """Sentences over the same fields, or over those given; with groups of which any or none hold, and records."""
    one = _clauses(names or {**NAMES, "crops": CROPS})
    if groups:
        several = st.lists(one, min_size=2, max_size=3).map(tuple)
        group = st.builds(Sentence, st.sampled_from(["none", "or", "and"]), several)
        one = st.one_of(one, one, group, _of_records())
    clauses = tuple(draw(st.lists(one, min_size=1, max_size=4)))
    # With one clause there is nothing to join, and nothing that stands within.
    if len(clauses) == 1 and isinstance(clauses[0], Sentence) and clauses[0].joiner != "none":
        return clauses[0]
    return Sentence(draw(st.sampled_from(["and", "or"])) if len(clauses) > 1 else "and", clauses)
