"""A condition as a sentence, for people who do not write formulas.

A sentence is clauses of which all, any or none hold. A clause says something of a field, or of the records that a
person has, or is a sentence itself. What no clause can say is carried as a quoted formula and left untouched, so
text → sentence → text loses nothing.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final, Literal

from finesieve.core.language import tree
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.language.relations import RELATIONS, built, read_clause, relations_for
from finesieve.core.values import Type

__all__ = [
    "EITHER",
    "MEASURES",
    "Clause",
    "Collected",
    "Joiner",
    "Measure",
    "Names",
    "Part",
    "Quoted",
    "Sentence",
    "measured_type",
    "sentence_to_tree",
    "tree_to_part",
    "tree_to_sentence",
]

Joiner = Literal["and", "or", "none"]
Measure = Literal["any", "no", "all", "count", "sum", "average", "min", "max"]
EITHER: Final = ("=", "in", ">", ">=")
"""The relations that can be said of either of two fields: what neither is would be something else."""
_DEEPEST: Final = 4
"""Sentences within sentences; what is deeper is quoted."""


@dataclass(frozen=True, slots=True)
class Names:
    """What a sentence may speak of: the types of fields by key; and of those of records, by collection.

    A key of two with a bar between, `level|form.level`, speaks of both at once: that either is so. `past` are those
    whose history is in reach.
    """

    fields: Mapping[str, Type]
    records: Mapping[str, Mapping[str, Type]] = field(default_factory=dict)
    past: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Clause:
    """A field, a relation and its values as written in an input."""

    key: str
    relation: str
    values: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Collected:
    """What is said of a person's records: that any, no or all of them are so; or how many, or how much, they come to.

    `where` says of which records. A measure that is a number (`count`, `sum` of a `column` and the like) is compared by
    `relation` with `values`.
    """

    collection: str
    measure: Measure
    where: "Sentence | None" = None
    column: str = ""
    relation: str = ""
    values: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Quoted:
    """A part that only the text can say."""

    text: str


@dataclass(frozen=True, slots=True)
class Sentence:
    """Clauses of which all (`and`), any (`or`) or none hold."""

    joiner: Joiner
    clauses: tuple["Part", ...]


Part = Clause | Collected | Quoted | Sentence

MEASURES: Final[Mapping[Measure, str]] = {
    "any": "any are such that",
    "no": "none are such that",
    "all": "all are such that",
    "count": "their number",
    "sum": "the sum of",
    "average": "the average of",
    "min": "the smallest",
    "max": "the largest",
}
"""Each in words, after the name of the collection."""
_NUMBERS: Final = Type("number")


# Tree to sentence ---------------------------------------------------------------------------


def tree_to_sentence(node: tree.Node, names: Names) -> Sentence:
    """The tree as a sentence over these names."""
    return _sentence(node, names, 1)


def _sentence(node: tree.Node, names: Names, depth: int) -> Sentence:
    either = _either(node, names)
    if either is not None:
        return Sentence("and", (either,))
    word, parts = (node.word, node.parts) if isinstance(node, tree.Chain) else ("and", (node,))
    return Sentence(word, tuple(_part(part, names, depth) for part in parts))


def tree_to_part(node: tree.Node, names: Names) -> Part:
    """One condition of several, as a part of a sentence."""
    return _part(node, names, 1)


def _part(node: tree.Node, names: Names, depth: int) -> Part:
    found = _clause(node, names) or _either(node, names) or _collected(node, names, depth) or _group(node, names, depth)
    return found if found is not None else Quoted(print_expression(node))


def _clause(node: tree.Node, names: Names) -> Clause | None:
    read = read_clause(node)
    if read is None:
        return None
    name, relation, values = read
    type_ = names.fields.get(name.text)
    if type_ is None or RELATIONS[relation] not in relations_for(type_, past=name.text in names.past):
        return None
    clause = Clause(name.text, relation, values)
    return clause if _says(clause, names, node) else None


def _either(node: tree.Node, names: Names) -> Clause | None:
    """The same said of either of two fields."""
    if not isinstance(node, tree.Chain) or node.word != "or" or len(node.parts) != 2:
        return None
    first, second = (_clause(part, names) for part in node.parts)
    if first is None or second is None or (first.relation, first.values) != (second.relation, second.values):
        return None
    key = f"{first.key}|{second.key}"
    known = key in names.fields and first.relation in EITHER
    return Clause(key, first.relation, first.values) if known else None


def _says(part: Part, names: Names, node: tree.Node) -> bool:
    """Whether the part stands for the very same tree."""
    try:
        return _tree(part, names) == node
    except ValueError:
        return False


def _group(node: tree.Node, names: Names, depth: int) -> Sentence | None:
    if depth >= _DEEPEST:
        return None
    if isinstance(node, tree.Chain):
        return _sentence(node, names, depth + 1)
    if not isinstance(node, tree.Not):
        return None
    inner = node.operand
    parts = inner.parts if isinstance(inner, tree.Chain) and inner.word == "or" else (inner,)
    return Sentence("none", tuple(_part(part, names, depth + 1) for part in parts))


def _collected(node: tree.Node, names: Names, depth: int) -> Collected | None:
    match node:
        case tree.Call(function="any" | "all" as measure, arguments=(inner,)):
            found = _of_records(measure, inner, names, depth)
        case tree.Not(operand=tree.Call(function="any", arguments=(inner,))):
            found = _of_records("no", inner, names, depth)
        case _:
            found = _measured(node, names, depth)
    return found if found is not None and _says(found, names, node) else None


def _measured(node: tree.Node, names: Names, depth: int) -> Collected | None:
    call = next((part for part in _operands(node) if isinstance(part, tree.Call)), None)
    if call is None or call.function not in ("count", "sum", "average", "min", "max") or len(call.arguments) != 1:
        return None
    stand_in = tree.Name(("it",))
    read = read_clause(_with_operand(node, stand_in))
    found = _of_records(call.function, call.arguments[0], names, depth)  # type: ignore[arg-type]  # one of the five
    if read is None or found is None or read[0] != stand_in:
        return None
    return Collected(found.collection, found.measure, found.where, found.column, read[1], read[2])


def _operands(node: tree.Node) -> tuple[tree.Node, ...]:
    match node:
        case tree.Compare(left=left):
            return (left,)
        case tree.Between(operand=operand):
            return (operand,)
    return ()


def _with_operand(node: tree.Node, operand: tree.Node) -> tree.Node:
    match node:
        case tree.Compare(sign=sign, right=right):
            return tree.Compare(sign, operand, right)
        case tree.Between(low=low, high=high):
            return tree.Between(operand, low, high)
    return node


def _of_records(measure: Measure, node: tree.Node, names: Names, depth: int) -> Collected | None:
    where: tree.Node | None = None
    if isinstance(node, tree.Filtered):
        if node.by is not None or node.where is None:
            return None
        where, node = node.where, node.operand
    if not isinstance(node, tree.Name):
        return None
    # A collection may stand after a word, as `cart.lines`.
    words = next((many for many in (2, 1) if ".".join(node.path[:many]) in names.records), 0)
    if not words:
        return None
    collection, column = ".".join(node.path[:words]), ".".join(node.path[words:])
    inner = Names(names.records[collection])
    if column and column not in inner.fields:
        return None
    said = None if where is None or depth >= _DEEPEST else _sentence(where, inner, depth + 1)
    return None if where is not None and said is None else Collected(collection, measure, said, column)


# Sentence to tree ---------------------------------------------------------------------------


def sentence_to_tree(sentence: Sentence, names: Names) -> tree.Node:
    """The tree that the sentence says. Raises ValueError, with a sentence, where a clause lacks something."""
    if not sentence.clauses:
        raise ValueError("There is no condition yet.")
    parts = tuple(_tree(clause, names) for clause in sentence.clauses)
    word: Literal["and", "or"] = "and" if sentence.joiner == "and" else "or"
    joined = parts[0] if len(parts) == 1 else tree.Chain(word, parts)
    return tree.Not(joined) if sentence.joiner == "none" else joined


def _tree(part: Part, names: Names) -> tree.Node:
    if isinstance(part, Sentence):
        return sentence_to_tree(part, names)
    if isinstance(part, Collected):
        return _collected_tree(part, names)
    if isinstance(part, Clause):
        if part.key not in names.fields:
            raise ValueError(f"No field is called {part.key}.")
        keys = part.key.split("|")
        if len(keys) > 1 and part.relation not in EITHER:
            raise ValueError("This cannot be said of either.")
        relation, type_ = RELATIONS[part.relation], names.fields[part.key]
        parts = tuple(built(tree.Name(tuple(key.split("."))), relation, part.values, type_) for key in keys)
        return parts[0] if len(parts) == 1 else tree.Chain("or", parts)
    parsed = parse(part.text)
    if parsed.tree is None:
        raise ValueError(parsed.problems[0].message)
    return parsed.tree


def _collected_tree(part: Collected, names: Names) -> tree.Node:
    if part.collection not in names.records:
        raise ValueError(f"No records are called {part.collection}.")
    inner = Names(names.records[part.collection])
    where = sentence_to_tree(part.where, inner) if part.where is not None else None
    if part.measure in ("any", "no", "all"):
        if where is None:
            raise ValueError("Say what is so of them.")
        call = tree.Call("all" if part.measure == "all" else "any", (_filtered(part.collection, where),))
        return tree.Not(call) if part.measure == "no" else call
    if part.measure != "count" and part.column not in inner.fields:
        raise ValueError("Choose what to add up or compare.")
    column = () if part.measure == "count" else (part.column,)
    argument: tree.Node = tree.Name((*part.collection.split("."), *column))
    if where is not None:
        argument = tree.Filtered(argument, where)
    compared = built(tree.Name(("it",)), RELATIONS[part.relation], part.values, measured_type(part, names))
    return _with_operand(compared, tree.Call(part.measure, (argument,)))


def _filtered(collection: str, where: tree.Node) -> tree.Node:
    return tree.Filtered(tree.Name(tuple(collection.split("."))), where)


def measured_type(part: Collected, names: Names) -> Type:
    """The type that a measure of records is compared as."""
    if part.measure == "count":
        return _NUMBERS
    return names.records.get(part.collection, {}).get(part.column, _NUMBERS)
