"""A condition as a sentence, for people who do not write formulas.

A sentence joins clauses by *and* or by *or*. What a clause cannot say is
carried as a quoted formula and left untouched, so text → sentence → text
loses nothing.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal, InvalidOperation
from typing import Final, Literal

from finesieve.core.language import tree
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.values import Kind, Type, plain_number

__all__ = [
    "RELATIONS",
    "Clause",
    "Joiner",
    "Quoted",
    "Relation",
    "Sentence",
    "relations_for",
    "sentence_to_tree",
    "tree_to_sentence",
]

Joiner = Literal["and", "or"]
Takes = Literal["nothing", "one", "two", "some"]


@dataclass(frozen=True, slots=True)
class Relation:
    """One way to speak of a field: its words, and how many values it takes."""

    id: str
    words: Mapping[Kind, str]
    takes: Takes


def _words(text: str, *kinds: Kind, **other: str) -> dict[Kind, str]:
    return dict.fromkeys(kinds, text) | other  # type: ignore[return-value]  # the keywords are kinds


_ALL: Final[tuple[Kind, ...]] = (
    "text",
    "number",
    "money",
    "yes_no",
    "choice",
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

RELATIONS: Final[dict[str, Relation]] = {
    relation.id: relation
    for relation in (
        Relation(
            "=",
            _words("is", "text", "number", "money", "choice", date="is on", time="is at", day_of_year="is on"),
            "one",
        ),
        Relation("!=", _words("is not", "text", "number", "money", "choice", date="is not on"), "one"),
        Relation("in", _words("is one of", "choice"), "some"),
        Relation("not in", _words("is none of", "choice"), "some"),
        Relation("holds any", _words("includes any of", "choices"), "some"),
        Relation("holds every", _words("includes all of", "choices"), "some"),
        Relation("holds no", _words("includes none of", "choices"), "some"),
        Relation("yes", _words("is yes", "yes_no"), "nothing"),
        Relation("no", _words("is no", "yes_no"), "nothing"),
        Relation(">", _words("is more than", "number", "money", date="is after", time="is after"), "one"),
        Relation(">=", _words("is at least", "number", "money", date="is on or after", time="is at or after"), "one"),
        Relation("<", _words("is less than", "number", "money", date="is before", time="is before"), "one"),
        Relation("<=", _words("is at most", "number", "money", date="is on or before", time="is at or before"), "one"),
        Relation("between", _words("is between", "number", "money", "date", "time"), "two"),
        Relation("contains", _words("contains", "text"), "one"),
        Relation("starts with", _words("starts with", "text"), "one"),
        Relation("ends with", _words("ends with", "text"), "one"),
        Relation("matches", _words("matches the pattern", "text"), "one"),
        Relation("filled", _words("is filled", *_ALL), "nothing"),
        Relation("blank", _words("is blank", *_ALL), "nothing"),
    )
}


def relations_for(kind: Kind) -> tuple[Relation, ...]:
    """The relations that make sense for a field of this kind, in the order offered."""
    return tuple(relation for relation in RELATIONS.values() if kind in relation.words)


@dataclass(frozen=True, slots=True)
class Clause:
    """A field, a relation and its values as written in an input."""

    key: str
    relation: str
    values: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Quoted:
    """A part that only the text can say."""

    text: str


@dataclass(frozen=True, slots=True)
class Sentence:
    """Clauses joined by one word."""

    joiner: Joiner
    clauses: tuple[Clause | Quoted, ...]


# Tree to sentence ---------------------------------------------------------------------------


def tree_to_sentence(node: tree.Node, names: Mapping[str, Type]) -> Sentence:
    """The tree as a sentence over the fields in `names`."""
    joiner: Joiner = node.word if isinstance(node, tree.Chain) else "and"
    parts = node.parts if isinstance(node, tree.Chain) else (node,)
    return Sentence(joiner, tuple(_clause(part, names) for part in parts))


def _clause(node: tree.Node, names: Mapping[str, Type]) -> Clause | Quoted:
    found = _as_clause(node)
    if found is not None and found.key in names and _sayable(found, names[found.key], node):
        return found
    return Quoted(print_expression(node))


def _sayable(clause: Clause, type_: Type, node: tree.Node) -> bool:
    """Whether the clause offers this relation and says the very same tree."""
    return type_.kind in RELATIONS[clause.relation].words and _clause_tree(clause, type_) == node


def _as_clause(node: tree.Node) -> Clause | None:
    match node:
        case tree.Name(path=(key,)):
            return Clause(key, "yes")
        case tree.Not(operand=tree.Name(path=(key,))):
            return Clause(key, "no")
        case tree.IsBlank(operand=tree.Name(path=(key,)), filled=filled):
            return Clause(key, "filled" if filled else "blank")
        case tree.Compare(sign=sign, left=tree.Name(path=(key,)), right=right):
            return _with_values(key, sign, (right,))
        case tree.TextTest(word=word, left=tree.Name(path=(key,)), right=right):
            return _with_values(key, word, (right,))
        case tree.Between(operand=tree.Name(path=(key,)), low=low, high=high):
            return _with_values(key, "between", (low, high))
        case tree.Holds(word=word, operand=tree.Name(path=(key,)), items=items) if word:
            return _with_values(key, f"holds {word}", items)
        case tree.In(operand=tree.Name(path=(key,)), items=items, negated=negated):
            return _with_values(key, "not in" if negated else "in", items)
    return None


def _with_values(key: str, relation: str, nodes: Sequence[tree.Node]) -> Clause | None:
    values = []
    for node in nodes:
        if isinstance(node, tree.Number) and not node.percent:
            values.append(plain_number(node.value))
        elif isinstance(node, tree.Text):
            values.append(node.value)
        else:
            return None
    return Clause(key, relation, tuple(values))


# Sentence to tree ---------------------------------------------------------------------------


def sentence_to_tree(sentence: Sentence, names: Mapping[str, Type]) -> tree.Node:
    """The tree that the sentence says. Raises ValueError, with a sentence, where a clause lacks something."""
    if not sentence.clauses:
        raise ValueError("There is no condition yet.")
    parts = tuple(_part(clause, names) for clause in sentence.clauses)
    return parts[0] if len(parts) == 1 else tree.Chain(sentence.joiner, parts)


def _part(clause: Clause | Quoted, names: Mapping[str, Type]) -> tree.Node:
    if isinstance(clause, Quoted):
        parsed = parse(clause.text)
        if parsed.tree is None:
            raise ValueError(parsed.problems[0].message)
        return parsed.tree
    if clause.key not in names:
        raise ValueError(f"No field is called {clause.key}.")
    return _clause_tree(clause, names[clause.key])


def _clause_tree(clause: Clause, type_: Type) -> tree.Node:
    name = tree.Name((clause.key,))
    relation = RELATIONS[clause.relation]
    values = [_literal(value, type_.kind) for value in clause.values]
    expected = {"nothing": 0, "one": 1, "two": 2}.get(relation.takes)
    if (expected is not None and len(values) != expected) or (expected is None and not values):
        raise ValueError("Choose what to compare with.")
    match clause.relation:
        case "yes":
            return name
        case "no":
            return tree.Not(name)
        case "filled" | "blank":
            return tree.IsBlank(name, filled=clause.relation == "filled")
        case "between":
            return tree.Between(name, values[0], values[1])
        case "in" | "not in":
            return tree.In(name, tuple(values), negated=clause.relation == "not in")
        case "holds any" | "holds every" | "holds no":
            return tree.Holds(clause.relation.removeprefix("holds "), name, tuple(values))  # type: ignore[arg-type]  # one of three words
        case "contains" | "starts with" | "ends with" | "matches":
            return tree.TextTest(clause.relation, name, values[0])
    return tree.Compare(clause.relation, name, values[0])  # type: ignore[arg-type]  # only the signs are left


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
