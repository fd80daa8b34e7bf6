"""Conditions between our language and the standard keywords of JSON Schema, in both directions.

A schema is valid where the expression is true; where it is false or cannot be told, the schema is not valid.
"""

from collections.abc import Mapping
from decimal import Decimal
from typing import Any, Final

from finesieve.core.fields.types import TYPES
from finesieve.core.language import tree
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.setup.document import FieldPart

__all__ = ["Unsaid", "as_number", "condition_schema", "expression_of", "opposite", "where_false"]


class Unsaid(ValueError):
    """What the other side cannot say; `place` is where it stands, as the steps that lead there."""

    def __init__(self, why: str, *place: object) -> None:
        super().__init__(why)
        self.place = place


def as_number(value: object) -> int | float:
    """A number as JSON has it."""
    number = float(str(value))
    return int(number) if number.is_integer() else number


# To a schema ------------------------------------------------------------------------------------


def condition_schema(text: str, fields: Mapping[str, FieldPart]) -> dict[str, Any] | None:
    """A schema that takes just those for whom the expression is true; None where the keywords cannot say it."""
    node = parse(text).tree
    return _where(node, True, fields) if node is not None else None


def where_false(text: str, fields: Mapping[str, FieldPart]) -> dict[str, Any] | None:
    """A schema that takes just those for whom the expression is false, as a check fails; None where none can."""
    node = parse(text).tree
    return _where(node, False, fields) if node is not None else None


def _where(node: tree.Node, wanted: bool, fields: Mapping[str, FieldPart]) -> dict[str, Any] | None:
    match node:
        case tree.Not(operand=operand):
            return _where(operand, not wanted, fields)
        case tree.Chain(word=word, parts=parts):
            found = [_where(part, wanted, fields) for part in parts]
            if any(one is None for one in found):
                return None
            return {"allOf" if (word == "and") == wanted else "anyOf": found}
        case tree.IsBlank(operand=tree.Name(path=(key,)), filled=filled):
            if _known(key, fields) is None:
                return None
            return {"required": [key]} if filled == wanted else {"not": {"required": [key]}}
    key, values = _values_where(node, wanted, fields)
    return {"properties": {key: values}, "required": [key]} if key else None


def _known(key: str, fields: Mapping[str, FieldPart]) -> FieldPart | None:
    known = fields.get(key)
    return None if known is None or known.formula or not TYPES[known.type].stores else known


def _values_where(node: tree.Node, wanted: bool, fields: Mapping[str, FieldPart]) -> tuple[str, dict[str, Any]]:
    """The key of the one field that a test reads, and the values for which it has the wanted verdict; "" for none."""
    nothing: tuple[str, dict[str, Any]] = ("", {})
    key, kind = _operand(node, fields)
    match node:
        case tree.Name() if kind == "yes_no":
            return key, {"const": wanted}
        case tree.Compare(sign=("=" | "!=") as sign, right=tree.Text(value=value)) if kind == "choice":
            return key, _one_of([value], (sign == "=") == wanted)
        case tree.Compare(sign=("=" | "!=") as sign, right=tree.YesNo(value=value)) if kind == "yes_no":
            return key, {"const": value if (sign == "=") == wanted else not value}
        case tree.Compare(sign=sign, right=tree.Number(value=number, percent=False)) if kind == "number":
            return key, _bound(sign if wanted else _OPPOSITE[sign], number)
        case tree.Between(low=tree.Number(value=low, percent=False), high=tree.Number(value=high, percent=False)):
            if kind != "number":
                return nothing
            inside = {"minimum": as_number(low), "maximum": as_number(high)}
            return key, inside if wanted else {"not": inside}
        case tree.In(items=items, negated=negated) if kind == "choice":
            texts = [item.value for item in items if isinstance(item, tree.Text)]
            return (key, _one_of(texts, negated != wanted)) if len(texts) == len(items) else nothing
        case tree.Holds(word="", items=(tree.Text(value=value),)) if kind == "choices":
            held = {"contains": {"const": value}}
            return key, held if wanted else {"not": held}
    return nothing


def _operand(node: tree.Node, fields: Mapping[str, FieldPart]) -> tuple[str, str]:
    """The field that a test is about, and its kind; "" for anything else."""
    place = node if isinstance(node, tree.Name) else getattr(node, "left", None) or getattr(node, "operand", None)
    if not isinstance(place, tree.Name) or len(place.path) != 1:
        return "", ""
    known = _known(place.path[0], fields)
    return (place.path[0], TYPES[known.type].kind) if known else ("", "")


def _one_of(values: list[str], inside: bool) -> dict[str, Any]:
    return {"enum": values} if inside else {"not": {"enum": values}}


_OPPOSITE: Final = {"=": "!=", "!=": "=", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
_BOUNDS: Final = {">=": "minimum", "<=": "maximum", ">": "exclusiveMinimum", "<": "exclusiveMaximum", "=": "const"}


def _bound(sign: str, number: Decimal) -> dict[str, Any]:
    if sign == "!=":
        return {"not": {"const": as_number(number)}}
    return {_BOUNDS[sign]: as_number(number)}


# To an expression -------------------------------------------------------------------------------


def expression_of(schema: Any, names: Mapping[str, str], *place: object) -> str:
    """The expression that is true just where a schema is valid; `names` gives the key of a property's name.

    Raises Unsaid, with the place, for keywords that none of our tests stands for.
    """
    return print_expression(_node_of(schema, names, place))


def opposite(text: str) -> str:
    """The expression that is true just where the given one is not: where it is false or cannot be told."""
    node = parse(text).tree
    assert node is not None, text
    return print_expression(_negated(node))


_ALL: Final = {"properties", "required", "allOf", "anyOf", "not"}
_AROUND: Final = {"title", "description", "$comment", "type"}


def _node_of(schema: Any, names: Mapping[str, str], place: tuple[object, ...]) -> tree.Node:
    if not isinstance(schema, dict):
        raise Unsaid("This is no condition that a rule can say.", *place)
    for keyword in schema.keys() - _ALL - _AROUND:
        raise Unsaid(f"A rule cannot say “{keyword}”.", *place, keyword)
    if schema.get("type", "object") != "object":
        raise Unsaid("A rule is about an object.", *place, "type")
    parts = _tests(schema, names, place)
    for word, keyword in (("and", "allOf"), ("or", "anyOf")):
        if keyword in schema:
            several = [_node_of(one, names, (*place, keyword, at)) for at, one in enumerate(schema[keyword])]
            parts.append(_chain(word, several))
    if "not" in schema:
        parts.append(_negated(_node_of(schema["not"], names, (*place, "not"))))
    if not parts:
        raise Unsaid("This condition says nothing.", *place)
    return _chain("and", parts)


def _tests(schema: Mapping[str, Any], names: Mapping[str, str], place: tuple[object, ...]) -> list[tree.Node]:
    """What `required` and `properties` ask."""
    required = [_name(one, names, (*place, "required")) for one in schema.get("required", ())]
    parts: list[tree.Node] = []
    for name, values in schema.get("properties", {}).items():
        key = _name(name, names, (*place, "properties", name))
        test = _test_of(key, values, (*place, "properties", name))
        if key in required:
            required.remove(key)
            parts.append(test if test is not None else _filled(key))
        elif test is not None:
            # Without `required`, a schema is valid where the property is missing.
            parts.append(tree.Chain("or", (_filled(key, filled=False), test)))
    return [*map(_filled, required), *parts]


def _chain(word: str, parts: list[tree.Node]) -> tree.Node:
    return parts[0] if len(parts) == 1 else tree.Chain(word, tuple(parts))  # type: ignore[arg-type]


def _negated(node: tree.Node) -> tree.Node:
    """Where a node is not true: a blank verdict counts as not true for a schema, so each part is asked for first."""
    if isinstance(node, tree.IsBlank):
        return tree.IsBlank(node.operand, filled=not node.filled)
    if isinstance(node, tree.Chain):
        return tree.Chain("or" if node.word == "and" else "and", tuple(_negated(part) for part in node.parts))
    names = [part for part in tree.walk(node) if isinstance(part, tree.Name)]
    return tree.Chain("or", (tree.IsBlank(names[0], filled=False), tree.Not(node)))


def _name(name: object, names: Mapping[str, str], place: tuple[object, ...]) -> str:
    if not isinstance(name, str) or name not in names:
        raise Unsaid(f"There is no property “{name}” here.", *place)
    return names[name]


def _filled(key: str, filled: bool = True) -> tree.Node:
    return tree.IsBlank(tree.Name((key,)), filled=filled)


def _test_of(key: str, values: Any, place: tuple[object, ...]) -> tree.Node | None:
    """The test of a field's values; None for a schema that takes any."""
    if values is True or values == {}:
        return None
    if not isinstance(values, dict):
        raise Unsaid("A rule cannot say this.", *place)
    name, parts = tree.Name((key,)), []
    for keyword, value in values.items():
        parts.append(_test(name, keyword, value, (*place, keyword)))
    found = [part for part in parts if part is not None]
    if not found:
        return None
    return found[0] if len(found) == 1 else tree.Chain("and", tuple(found))


def _test(name: tree.Name, keyword: str, value: Any, place: tuple[object, ...]) -> tree.Node | None:
    signs = {word: sign for sign, word in _BOUNDS.items()}
    literal = _literal(value)
    match keyword:
        case "title" | "description" | "$comment" | "type":
            return None
        case "const" if isinstance(value, bool):
            return name if value else tree.Not(name)
        case "const" if literal is not None:
            return tree.Compare("=", name, literal)
        case "enum" if isinstance(value, list) and value and all(isinstance(one, str) for one in value):
            return tree.In(name, tuple(tree.Text(one) for one in value))
        case "minimum" | "maximum" | "exclusiveMinimum" | "exclusiveMaximum" if isinstance(literal, tree.Number):
            return tree.Compare(signs[keyword], name, literal)  # type: ignore[arg-type]
        case "contains" if isinstance(value, dict) and value.keys() == {"const"} and isinstance(value["const"], str):
            return tree.Holds("", name, (tree.Text(value["const"]),))
        case "not" if isinstance(value, dict):
            test = _test_of(name.path[0], value, place)
            if test is not None:
                return tree.Not(test)
    raise Unsaid(f"A rule cannot say “{keyword}” so.", *place)


def _literal(value: Any) -> tree.Node | None:
    if isinstance(value, str):
        return tree.Text(value)
    if isinstance(value, int | float) and not isinstance(value, bool):
        return tree.Number(Decimal(str(value)))
    return None
