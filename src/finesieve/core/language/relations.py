"""The ways to speak of a field in a sentence: their words, what they compare with, and what tree each stands for."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal, InvalidOperation
from typing import Final, Literal

from finesieve.core.language import tree
from finesieve.core.values import Kind, Type, plain_number

__all__ = ["RELATIONS", "SPANS", "Relation", "Takes", "built", "read_clause", "relations_for"]

Takes = Literal["nothing", "one", "two", "some", "number", "span", "numbers", "day", "one on"]
"""What a relation compares with: values of the field (one, two, some); a number; a number and a unit; two numbers; a
day; a value and the day on which it was that."""
Word = Kind | Literal["progress"]
SPANS: Final = ("days", "months", "years")


@dataclass(frozen=True, slots=True)
class Relation:
    """One way to speak of a field: its words by kind, what it takes, the words between two values and after them.

    What is said of the `past` can be said only of fields whose history is in reach.
    """

    id: str
    words: Mapping[Word, str]
    takes: Takes
    between: str = "and"
    after: str = ""
    past: bool = False

    def said(self, type_: Type) -> str:
        """The relation in words, of a field of this type."""
        return self.words[_word(type_)]

    @property
    def count(self) -> tuple[int, int]:
        """How many values it takes, from and to."""
        fixed = {"nothing": 0, "one": 1, "number": 1, "day": 1, "two": 2, "span": 2, "numbers": 2, "one on": 2}.get(
            self.takes
        )
        return (1, 200) if fixed is None else (fixed, fixed)


def _word(type_: Type) -> Word:
    return "progress" if type_.kind == "choice" and type_.ordered else type_.kind


def _words(text: str, *kinds: Word, **other: str) -> dict[Word, str]:
    return dict.fromkeys(kinds, text) | other  # type: ignore[return-value]  # the keywords are kinds


_ALL: Final[tuple[Word, ...]] = (
    "text",
    "number",
    "money",
    "yes_no",
    "choice",
    "progress",
    "date",
    "datetime",
    "time",
    "day_of_year",
    "choices",
    "text_list",
    "structured",
    "file",
    "secret",
)
_ONE: Final[tuple[Word, ...]] = ("text", "number", "money", "choice", "progress")
_PLAIN: Final = "number", "money"
_DAYS: Final = "date", "datetime"

RELATIONS: Final[dict[str, Relation]] = {
    relation.id: relation
    for relation in (
        Relation("=", _words("is", *_ONE, date="is on", time="is at", day_of_year="is on"), "one"),
        Relation("!=", _words("is not", *_ONE, date="is not on"), "one"),
        Relation("in", _words("is one of", "choice", "progress"), "some"),
        Relation("not in", _words("is none of", "choice", "progress"), "some"),
        Relation("holds any", _words("includes any of", "choices"), "some"),
        Relation("holds every", _words("includes all of", "choices"), "some"),
        Relation("holds no", _words("includes none of", "choices"), "some"),
        Relation("yes", _words("is yes", "yes_no"), "nothing"),
        Relation("no", _words("is no", "yes_no"), "nothing"),
        Relation(">", _words("is more than", *_PLAIN, date="is after", time="is after", progress="is past"), "one"),
        Relation(
            ">=",
            _words("is at least", *_PLAIN, "progress", date="is on or after", time="is at or after"),
            "one",
        ),
        Relation("<", _words("is less than", *_PLAIN, date="is before", time="is before", progress="is before"), "one"),
        Relation(
            "<=",
            _words("is at most", *_PLAIN, "progress", date="is on or before", time="is at or before"),
            "one",
        ),
        Relation("between", _words("is between", *_PLAIN, "date", "time"), "two"),
        Relation("in last", _words("is in the last", *_DAYS), "span"),
        Relation("in next", _words("is in the next", *_DAYS), "span"),
        Relation("ago", _words("is at least", *_DAYS), "span", after="ago"),
        Relation("since", _words("is less than", *_DAYS), "span", after="ago"),
        Relation("age >=", _words("makes them at least", "date"), "number", after="years old"),
        Relation("age <", _words("makes them younger than", "date"), "number", after="years"),
        Relation("turns", _words("makes them turn", "date"), "numbers", between="within", after="days"),
        Relation("comes round", _words("comes round within", "date", "day_of_year"), "number", after="days"),
        Relation("contains", _words("contains", "text"), "one"),
        Relation("starts with", _words("starts with", "text"), "one"),
        Relation("ends with", _words("ends with", "text"), "one"),
        Relation("matches", _words("matches the pattern", "text"), "one"),
        Relation("filled", _words("is filled", *_ALL), "nothing"),
        Relation("blank", _words("is blank", *_ALL), "nothing"),
        Relation("ever", _words("has ever been", "choice", "progress", choices="has ever included"), "some", past=True),
        Relation(
            "never", _words("has never been", "choice", "progress", choices="has never included"), "some", past=True
        ),
        Relation("was", _words("was", *_ONE), "one on", between="on", past=True),
        Relation("changed in", _words("was changed in the last", *_ALL), "span", past=True),
        Relation("changed since", _words("was changed on or after", *_ALL), "day", past=True),
        Relation("unchanged", _words("was last changed at least", *_ALL), "span", after="ago", past=True),
    )
}


def relations_for(type_: Type, *, past: bool = False) -> tuple[Relation, ...]:
    """The relations that make sense for a field of this type, in the order offered; those of its `past` where that is
    in reach."""
    word = _word(type_)
    return tuple(one for one in RELATIONS.values() if word in one.words and (past or not one.past))


# To a tree -------------------------------------------------------------------------------------


def built(name: tree.Name, relation: Relation, values: Sequence[str], type_: Type) -> tree.Node:
    """The tree that a relation of a field stands for. Raises ValueError, with a sentence, for what will not do."""
    least, most = relation.count
    if not least <= len(values) <= most:
        raise ValueError("Choose what to compare with.")
    if relation.takes in ("number", "span", "numbers"):
        return _RELATIVE[relation.id](name, *_spanned(relation, values))
    kinds = {"day": ("date",), "one on": (type_.kind, "date")}.get(relation.takes, (type_.kind,) * len(values))
    nodes = tuple(_literal(value, kind) for value, kind in zip(values, kinds, strict=True))
    return _PLAIN_TREES.get(relation.id, _compared)(name, relation.id, nodes)


def _compared(name: tree.Node, sign: str, nodes: tuple[tree.Node, ...]) -> tree.Node:
    return tree.Compare(sign, name, nodes[0])  # type: ignore[arg-type]  # only the signs are left


def _text_test(name: tree.Node, word: str, nodes: tuple[tree.Node, ...]) -> tree.Node:
    return tree.TextTest(word, name, nodes[0])  # type: ignore[arg-type]  # one of four words


def _holds(name: tree.Node, word: str, nodes: tuple[tree.Node, ...]) -> tree.Node:
    return tree.Holds(word.removeprefix("holds "), name, nodes)  # type: ignore[arg-type]  # one of three words


def _changed(name: tree.Node) -> tree.Node:
    return tree.Call("last_change", (name,))


_PLAIN_TREES: Final[Mapping[str, Callable[[tree.Node, str, tuple[tree.Node, ...]], tree.Node]]] = {
    "yes": lambda name, _word, _nodes: name,
    "no": lambda name, _word, _nodes: tree.Not(name),
    "filled": lambda name, _word, _nodes: tree.IsBlank(name, filled=True),
    "blank": lambda name, _word, _nodes: tree.IsBlank(name),
    "between": lambda name, _word, nodes: tree.Between(name, nodes[0], nodes[1]),
    "in": lambda name, _word, nodes: tree.In(name, nodes),
    "not in": lambda name, _word, nodes: tree.In(name, nodes, negated=True),
    **dict.fromkeys(("holds any", "holds every", "holds no"), _holds),
    "ever": lambda name, _word, nodes: tree.Call("ever_held", (name, *nodes)),
    "never": lambda name, _word, nodes: tree.Not(tree.Call("ever_held", (name, *nodes))),
    "was": lambda name, _word, nodes: tree.Compare("=", tree.Call("value_on", (name, nodes[1])), nodes[0]),
    "changed since": lambda name, _word, nodes: tree.Compare(">=", tree.Call("date", (_changed(name),)), nodes[0]),
    **dict.fromkeys(("contains", "starts with", "ends with", "matches"), _text_test),
}

_TODAY: Final = tree.Call("today", ())


def _number(value: int) -> tree.Number:
    return tree.Number(Decimal(value))


def _from_today(amount: int, unit: str) -> tree.Node:
    return tree.Call(f"add_{unit}", (_TODAY, _number(amount)))


def _age(name: tree.Node) -> tree.Node:
    return tree.Call("age", (name,))


def _until(node: tree.Node) -> tree.Node:
    return tree.Call("days_until", (node,))


_RELATIVE: Final[Mapping[str, Callable[..., tree.Node]]] = {
    "in last": lambda name, many, unit: tree.Between(name, _from_today(-many, unit), _TODAY),
    "in next": lambda name, many, unit: tree.Between(name, _TODAY, _from_today(many, unit)),
    "ago": lambda name, many, unit: tree.Compare("<=", name, _from_today(-many, unit)),
    "since": lambda name, many, unit: tree.Compare(">", name, _from_today(-many, unit)),
    "changed in": lambda name, many, unit: tree.Between(_changed(name), _from_today(-many, unit), _TODAY),
    "unchanged": lambda name, many, unit: tree.Compare("<=", _changed(name), _from_today(-many, unit)),
    "age >=": lambda name, many: tree.Compare(">=", _age(name), _number(many)),
    "age <": lambda name, many: tree.Compare("<", _age(name), _number(many)),
    "turns": lambda name, years, days: tree.Between(
        _until(tree.Call("add_years", (name, _number(years)))), _number(0), _number(days)
    ),
    "comes round": lambda name, many: tree.Compare("<=", _until(tree.Call("next_anniversary", (name,))), _number(many)),
}
"""What is told from today, by the id of the relation; from whole numbers, and a unit."""


def _spanned(relation: Relation, values: Sequence[str]) -> tuple[int | str, ...]:
    if relation.takes != "span":
        return tuple(_whole(value) for value in values)
    if values[1] not in SPANS:
        raise ValueError("Choose days, months or years.")
    return _whole(values[0]), values[1]


def _whole(value: str) -> int:
    text = value.strip()
    if not text:
        raise ValueError("Choose what to compare with.")
    if not (text.isascii() and text.isdigit() and len(text) <= 4):
        raise ValueError(f"“{text[:20]}” is not a whole number.")
    return int(text)


def _literal(value: str, kind: Kind) -> tree.Node:
    value = value.strip() if kind not in ("choice", "choices") else value
    if not value:
        raise ValueError("Choose what to compare with.")
    if kind == "date":
        try:
            date.fromisoformat(value)
        except ValueError:
            raise ValueError(f"“{value}” is not a date; write it as YYYY-MM-DD.") from None
    if kind not in ("number", "money"):
        return tree.Text(value)
    try:
        number = Decimal(value)
        if not number.is_finite() or abs(number) >= Decimal("1e15") or number != round(number, 10):
            raise ValueError
    except (InvalidOperation, ValueError):
        raise ValueError(f"“{value}” is not a number.") from None
    return tree.Number(number + 0)


# From a tree -----------------------------------------------------------------------------------


def read_clause(node: tree.Node) -> tuple[tree.Name, str, tuple[str, ...]] | None:
    """What a tree says of one name: the name, the id of a relation, its values; None for what no relation says.

    Whether the relation suits the field, and stands for the very same tree, is for the caller to see.
    """
    return _told_from_today(node) or _of_the_past(node) or _plainly(node)


def _of_the_past(node: tree.Node) -> tuple[tree.Name, str, tuple[str, ...]] | None:
    match node:
        case tree.Call(function="ever_held", arguments=(tree.Name() as name, *options)):
            return _with_values(name, "ever", options)
        case tree.Not(operand=tree.Call(function="ever_held", arguments=(tree.Name() as name, *options))):
            return _with_values(name, "never", options)
        case tree.Compare("=", tree.Call(function="value_on", arguments=(tree.Name() as name, day)), value):
            return _with_values(name, "was", (value, day))
        case tree.Compare(
            ">=", tree.Call("date", (tree.Call(function="last_change", arguments=(tree.Name() as name,)),)), day
        ):
            return _with_values(name, "changed since", (day,))
    return None


def _plainly(node: tree.Node) -> tuple[tree.Name, str, tuple[str, ...]] | None:
    match node:
        case tree.Name():
            return node, "yes", ()
        case tree.Not(operand=tree.Name() as name):
            return name, "no", ()
        case tree.IsBlank(operand=tree.Name() as name, filled=filled):
            return name, "filled" if filled else "blank", ()
        case tree.Compare(sign=sign, left=tree.Name() as name, right=right):
            return _with_values(name, sign, (right,))
        case tree.TextTest(word=word, left=tree.Name() as name, right=right):
            return _with_values(name, word, (right,))
        case tree.Between(operand=tree.Name() as name, low=low, high=high):
            return _with_values(name, "between", (low, high))
        case tree.Holds(word=word, operand=tree.Name() as name, items=items) if word:
            return _with_values(name, f"holds {word}", items)
        case tree.In(operand=tree.Name() as name, items=items, negated=negated):
            return _with_values(name, "not in" if negated else "in", items)
    return None


def _with_values(
    name: tree.Name, relation: str, nodes: Sequence[tree.Node]
) -> tuple[tree.Name, str, tuple[str, ...]] | None:
    values = []
    for node in nodes:
        if isinstance(node, tree.Number) and not node.percent:
            values.append(plain_number(node.value))
        elif isinstance(node, tree.Text):
            values.append(node.value)
        else:
            return None
    return name, relation, tuple(values)


def _told_from_today(node: tree.Node) -> tuple[tree.Name, str, tuple[str, ...]] | None:
    """The name and numbers that a tree from today has, for the one relation that stands for the very same tree."""
    names = [part for part in tree.walk(node) if isinstance(part, tree.Name)]
    numbers = [part.value for part in tree.walk(node) if isinstance(part, tree.Number)]
    units = [part.function.removeprefix("add_") for part in tree.walk(node) if isinstance(part, tree.Call)]
    if len(names) != 1 or not numbers or len(numbers) > 3 or any(one % 1 or abs(one) > 9_999 for one in numbers):
        return None
    whole = sorted({abs(int(one)) for one in numbers})
    unit = next((one for one in units if one in SPANS), "")
    for relation, build in _RELATIVE.items():
        takes = RELATIONS[relation].takes
        tries: list[tuple[int | str, ...]] = [(many,) for many in whole]
        if takes == "span":
            tries = [(many, unit) for many in whole if unit]
        elif takes == "numbers":
            tries = [(one, other) for one in (*whole, 0) for other in (*whole, 0)]
        for given in tries:
            if build(names[0], *given) == node:
                return names[0], relation, tuple(str(one) for one in given)
    return None
