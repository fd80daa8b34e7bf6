"""Checking names and collections: what a name means where it stands, and functions over records."""

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from typing import Final

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.contexts import CONTEXTS
from finesieve.core.language import tree
from finesieve.core.language.declare import ORDERED, Function
from finesieve.core.language.fitting import NUMERIC, Fitter, say_kind
from finesieve.core.language.functions import FUNCTIONS, nearest
from finesieve.core.language.names import Place, World
from finesieve.core.language.problems import Span
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Type

__all__ = ["AGGREGATES", "SIMPLE", "Collecting"]

AGGREGATES: Final = frozenset(name for name, function in FUNCTIONS.items() if function.collects) | {"sum", "min", "max"}
"""The functions that work over a collection."""
_NUMBER: Final = Type("number")
_YES_NO: Final = Type("yes_no")
_ANY_COLUMN: Final = frozenset(("latest", "first", "count_filled"))
SIMPLE: Final[frozenset[Kind]] = frozenset(
    ("text", "number", "money", "yes_no", "choice", "choices", "date", "time", "datetime", "day_of_year", "text_list")
)
"""Kinds of which a formula can give a value that is picked out of several."""


class Collecting:
    """Finds what names mean, level by level, and types functions over collections.

    `typed` gives the checked form of a part, or None where it has a problem, already said.
    """

    def __init__(self, world: World, fit: Fitter, typed: Callable[[tree.Node], Typed | None]) -> None:
        self._world = world
        self._fit = fit
        self._typed = typed
        self._levels = [world.base, *world.inner]

    # Names

    def named(self, node: tree.Name) -> Typed | None:
        """The checked form of a name, or None, already said; a collection is a problem outside its functions."""
        found = self._found(node)
        if found is not None and found.operation == "collection":
            self.say_collection(found)
            return None
        return found

    def say_collection(self, found: Typed) -> None:
        """A collection stands where one value is needed."""
        word = found.collection + (f".{found.name}" if found.name else "")
        hint = f"latest({word})" if found.name else f"count({word})"
        self._fit.say("collection", found.span, f"“{word}” is a collection; did you mean {hint}?", hint)

    def of_history(self, node: tree.Node, function: Function) -> Typed | None:
        """The field of a person whose history a function reads, or None, already said."""
        found = self._found(node) if isinstance(node, tree.Name) else None
        if isinstance(node, tree.Name) and found is None:
            return None
        code = "wrong-type"
        if found is None or found.operation != "name" or found.prefix or found.about != PERSON:
            message = f"{function.name} reads the history of one field of a person, written by its key alone."
        elif found.name not in self._world.remembered:
            code, message = "history", f"What “{found.name}” was in the past cannot be read here."
        elif found.type.kind not in function.takes[0]:
            message = f"{function.name} takes a choice, a multiple choice or tags; this is {say_kind(found.type.kind)}."
        else:
            return found
        self._fit.say(code, node.span, message, function.example)
        return None

    def _found(self, node: tree.Name) -> Typed | None:
        whole = ".".join(node.path[:2])
        if whole in self._world.collections:
            return self._after_two(node, whole, self._world.collections[whole])
        if len(node.path) == 1:
            return self._bare(node, node.path[0])
        if len(node.path) == 2:
            return self._prefixed(node, *node.path)
        known = self._world.prefixes.get(node.path[0])
        if known and len(node.path) == 3 and any(name.startswith(f"{node.path[1]}.") for name in known):
            return self._after_prefix(node, node.path[0], ".".join(node.path[1:]), known)
        self._fit.say("unknown-prefix", node.span, f"“{node.text}” has one point too many.")
        return None

    def _after_two(self, node: tree.Name, whole: str, member: str) -> Typed | None:
        """A collection after a prefix, `cart.lines`, or one of its columns."""
        if len(node.path) == 2:
            type_ = Type("collection", member=member)
            return Typed("collection", type_, node.span, about=member, collection=whole)
        names = self._world.members[member].names
        key = self._world.key_of(node.path[2], member, names)
        if key not in names:
            self._unknown(node, key, names, prefix=f"{whole}.")
            return None
        return Typed("collection", names[key], node.span, name=key, about=member, collection=whole)

    def _bare(self, node: tree.Name, key: str) -> Typed | None:
        for level in range(len(self._levels) - 1, -1, -1):
            found = self._at(node, level, key)
            if found is not None:
                return found
        self._unknown(node, key, {name for place in self._levels for name in (*place.names, *place.collections)})
        return None

    def _at(self, node: tree.Name, level: int, key: str) -> Typed | None:
        place = self._levels[level]
        key = self._world.key_of(key, place.about, place.names)
        if key in place.names:
            return Typed("name", place.names[key], node.span, name=key, about=place.about, level=level)
        if key in place.collections:
            member = place.collections[key]
            type_ = Type("collection", member=member)
            return Typed("collection", type_, node.span, about=member, level=level, collection=key)
        return None

    def _prefixed(self, node: tree.Name, prefix: str, key: str) -> Typed | None:
        if prefix in self._world.prefixes:
            return self._after_prefix(node, prefix, key, self._world.prefixes[prefix])
        level = self._level_of(prefix)
        if level is not None:
            found = self._at(node, level, key)
            if found is None:
                self._unknown(node, key, self._levels[level].names)
            return found
        column = self._column(node, prefix, key)
        if column is not None:
            return column
        known = prefix in CONTEXTS
        if not known and any(prefix in place.collections for place in self._levels):
            return None  # the column was unknown, already said
        message = f"“{prefix}.” has no meaning here." if known else f"“{prefix}.” is no prefix."
        self._fit.say("unknown-prefix", node.span, message)
        return None

    def _after_prefix(self, node: tree.Name, prefix: str, key: str, known: Mapping[str, Type] | None) -> Typed | None:
        if known is not None:
            key = self._world.key_of(key, CONTEXTS[prefix].about or self._world.base.about, known)
        if known is not None and key not in known:
            self._unknown(node, key, known, prefix=f"{prefix}.", what=CONTEXTS[prefix].what)
            return None
        whole = self._world.inlined.get(f"{prefix}.{key}")
        if whole is not None:
            return _standing_at(whole, node.span)
        type_ = Type("text") if known is None else known[key]
        context = CONTEXTS[prefix]
        about = context.about or self._world.base.about
        return Typed(context.operation, type_, node.span, name=key, about=about, prefix=prefix)

    def _level_of(self, prefix: str) -> int | None:
        """The level that `person.` or `record.` means, the innermost one; None where there is none."""
        for level in range(len(self._levels) - 1, -1, -1):
            if self._levels[level].about.partition(":")[0] == prefix:
                return level
        return None

    def _column(self, node: tree.Name, collection: str, key: str) -> Typed | None:
        for level in range(len(self._levels) - 1, -1, -1):
            member = self._levels[level].collections.get(collection)
            if member is None:
                continue
            names = self._world.members[member].names
            key = self._world.key_of(key, member, names)
            if key not in names:
                self._unknown(node, key, names, prefix=f"{collection}.")
                return None
            return Typed(
                "collection", names[key], node.span, name=key, about=member, level=level, collection=collection
            )
        return None

    def _unknown(self, node: tree.Name, key: str, known: object, prefix: str = "", what: str = "field") -> None:
        gone = self._world.gone.get(prefix + key)
        if gone:
            self._fit.say("deleted-field", node.span, gone)
            return
        near = nearest(key, list(known))  # type: ignore[call-overload]  # names by key
        if not near and key in FUNCTIONS and not prefix:
            self._fit.say("unknown-field", node.span, f"“{key}” is a function; it needs brackets.", f"{key}(…)")
            return
        near = prefix + near if near else ""
        message = f"No {what} is called {key}." + (f" Nearest: {near}." if near else "")
        self._fit.say("unknown-field", node.span, message, near)

    # Collections

    def is_collection(self, node: tree.Node) -> bool:
        """Whether a part is a collection, one of its columns, or one of these with “where” or “by”."""
        if isinstance(node, tree.Filtered):
            return self.is_collection(node.operand)
        if not isinstance(node, tree.Name):
            return False
        if ".".join(node.path[:2]) in self._world.collections:
            return True
        if len(node.path) > 2:
            return False
        first = node.path[0]
        if len(node.path) == 2:
            return any(first in place.collections for place in self._levels)
        for place in reversed(self._levels):
            if self._world.key_of(first, place.about, place.names) in place.names:
                return False
            if first in place.collections:
                return True
        return False

    def collected(self, node: tree.Call, function: Function) -> Typed | None:
        """A function over a collection."""
        argument = node.arguments[0]
        if len(node.arguments) > 1:
            self._fit.say("argument-count", node.span, f"{function.name} takes one collection.", function.example)
            return None
        filtered = argument if isinstance(argument, tree.Filtered) else tree.Filtered(argument, span=argument.span)
        assert isinstance(filtered.operand, tree.Name)
        column = self._found(filtered.operand)
        if column is None:
            return None
        with self._inside(column.about):
            where = self._where(filtered)
            by = self._by(filtered, function)
        gives = self._gives(column, function, filtered.operand.span, has_where=filtered.where is not None)
        lost = (filtered.where is not None and where is None) or (filtered.by is not None and by is None)
        if gives is None or lost:
            return None
        roles, parts = [], []
        for role, part in (("column", self._as_name(column)), ("where", where), ("by", by)):
            if part is not None:
                roles.append(role)
                parts.append(part)
        return Typed(
            "collect",
            gives,
            node.span,
            tuple(parts),
            name=function.name,
            about=column.about,
            level=column.level,
            collection=column.collection,
            roles=tuple(roles),
            inner=len(self._levels),
        )

    @contextmanager
    def _inside(self, about: str) -> Iterator[None]:
        self._levels.append(self._world.members.get(about, Place(about, {})))
        try:
            yield
        finally:
            self._levels.pop()

    def _as_name(self, column: Typed) -> Typed | None:
        if not column.name:
            return None
        level = len(self._levels)
        return Typed("name", column.type, column.span, name=column.name, about=column.about, level=level)

    def _where(self, filtered: tree.Filtered) -> Typed | None:
        if filtered.where is None:
            return None
        typed = self._typed(filtered.where)
        if typed is not None and typed.type.kind != "yes_no":
            message = f"This is {say_kind(typed.type.kind)}; here a yes/no is needed."
            self._fit.say("wrong-type", typed.span, message, "add a comparison, such as … > 3")
            return None
        return typed

    def _by(self, filtered: tree.Filtered, function: Function) -> Typed | None:
        if filtered.by is None:
            return None
        if function.name not in ("latest", "first"):
            self._fit.say(
                "where-place", filtered.by.span, f"“by” has a meaning in latest and first only, not {function.name}."
            )
            return None
        typed = self._typed(filtered.by)
        if typed is not None and typed.type.kind not in ORDERED:
            self._fit.say("no-order", typed.span, f"{say_kind(typed.type.kind).capitalize()} has no order.")
            return None
        return typed

    def _gives(self, column: Typed, function: Function, span: Span, *, has_where: bool) -> Type | None:
        name, kind = function.name, column.type.kind
        if name in ("count", "any", "all"):
            if column.name:
                self._fit.say("wrong-type", span, f"{name} takes the collection itself: {name}({column.collection}).")
                return None
            if name == "all" and not has_where:
                self._fit.say("argument-count", span, "all needs a condition.", function.example)
                return None
            return _NUMBER if name == "count" else _YES_NO
        if not column.name:
            example = f"{name}({column.collection}.…)"
            self._fit.say("wrong-type", span, f"{name} needs a column of the collection: {example}.", example)
            return None
        if name in _ANY_COLUMN and kind in SIMPLE:
            return _NUMBER if name == "count_filled" else column.type
        wanted = NUMERIC if name in ("sum", "average") else ORDERED if name in ("min", "max") else SIMPLE
        if kind not in wanted:
            code = "no-order" if wanted is ORDERED else "wrong-type"
            self._fit.say(code, span, f"{name} cannot be taken of {say_kind(kind)}.")
            return None
        return column.type


def _standing_at(typed: Typed, span: Span) -> Typed:
    """An expression that stands for a name, at the place of that name."""
    parts = tuple(_standing_at(part, span) for part in typed.parts)
    return replace(typed, span=span, item_spans=(), parts=parts)
