"""Tree to checked form. Returns every problem at once; a part in error causes no further one."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, tzinfo
from functools import singledispatchmethod
from typing import Final

from finesieve.core.language import tree
from finesieve.core.language.collecting import AGGREGATES, SIMPLE, Collecting
from finesieve.core.language.declare import DATE, NUMBER, ORDERED, Function
from finesieve.core.language.fitting import KIND_WORDS, NUMERIC, Fitter, say_kind
from finesieve.core.language.functions import FUNCTIONS, nearest
from finesieve.core.language.names import World
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_text_literal
from finesieve.core.language.problems import Problem, Span
from finesieve.core.language.sums import Sums
from finesieve.core.language.typed import OF_HISTORY, Typed
from finesieve.core.values import Kind, Type

__all__ = ["Checked", "check", "check_tree", "say_kind"]

_NUMBER: Final = Type("number")
_MONEY: Final = Type("money")
_TEXT: Final = Type("text")
_DATE: Final = Type("date")
_MOMENT: Final = Type("datetime")
_YES_NO: Final = Type("yes_no")
_NOT_COMPARED: Final = frozenset(("choices", "text_list", "structured", "file", "secret", "collection"))


@dataclass(frozen=True, slots=True)
class Checked:
    """What checking found: the tree, its checked form where there are no problems, the problems."""

    tree: tree.Node | None
    typed: Typed | None
    problems: tuple[Problem, ...] = ()


def check(
    text: str,
    names: Mapping[str, Type] | World,
    *,
    zone: tzinfo = UTC,
    expect: Kind | None = None,
) -> Checked:
    """Parse and check a text against a world, or against the fields of a person in `names`.

    `expect` is the kind the whole must have, such as yes_no for a rule.
    """
    parsed = parse(text)
    if parsed.tree is None:
        return Checked(None, None, parsed.problems)
    return check_tree(parsed.tree, names, zone=zone, expect=expect)


def check_tree(
    node: tree.Node,
    names: Mapping[str, Type] | World,
    *,
    zone: tzinfo = UTC,
    expect: Kind | None = None,
) -> Checked:
    """Check a tree; see `check`."""
    checker = _Checker(World.of(names), zone)
    typed = checker.finish(node, expect)
    problems = tuple(sorted(checker.problems, key=lambda problem: (problem.span.start, problem.span.end)))
    return Checked(node, None if problems else typed, problems)


_ONLY_FILLED: Final[frozenset[Kind]] = frozenset(("secret", "file"))
"""Kinds that no expression gives: nobody reads a secret through a formula, and a file belongs to its field."""


class _Checker:
    """Types the parts of one expression, collecting problems on the way."""

    def __init__(self, world: World, zone: tzinfo) -> None:
        self._fit = Fitter(zone)
        self._sums = Sums(self._fit)
        self._names = Collecting(world, self._fit, self.typed)

    @property
    def problems(self) -> list[Problem]:
        return self._fit.problems

    def finish(self, node: tree.Node, expect: Kind | None) -> Typed | None:
        """The checked form of a whole expression, which gives one value, of the kind that is expected."""
        typed = self.typed(node)
        if typed is not None and typed.operation == "collection":
            self._names.say_collection(typed)
            return None
        if typed is not None and typed.type.kind in _ONLY_FILLED:
            message = (
                f"This gives {say_kind(typed.type.kind)}, of which an expression can only ask whether it is filled."
            )
            self._fit.say("wrong-type", node.span, message, "add “is filled”")
        elif typed is not None and expect is not None and typed.type.kind != expect:
            message = f"This gives {say_kind(typed.type.kind)}; here {say_kind(expect)} is needed."
            hint = "add a comparison, such as … > 3" if expect == "yes_no" else ""
            self._fit.say("wrong-type", node.span, message, hint)
        return typed

    # Literals and names

    @singledispatchmethod
    def typed(self, node: tree.Node) -> Typed | None:
        """The checked form of one part, or None where it has a problem, already said."""
        raise TypeError(f"no checking for {type(node).__name__}")

    @typed.register
    def _(self, node: tree.Number) -> Typed | None:
        return Typed("const", _NUMBER, node.span, value=node.value)

    @typed.register
    def _(self, node: tree.Text) -> Typed | None:
        return Typed("const", _TEXT, node.span, value=node.value or None, name="literal")

    @typed.register
    def _(self, node: tree.YesNo) -> Typed | None:
        return Typed("const", _YES_NO, node.span, value=node.value)

    @typed.register
    def _(self, node: tree.Blank) -> Typed | None:
        self._fit.say("blank-place", node.span, "“blank” can only be a branch of if; ask with “is blank”.", "is blank")
        return None

    @typed.register
    def _(self, node: tree.Name) -> Typed | None:
        return self._names.named(node)

    @typed.register
    def _(self, node: tree.Filtered) -> Typed | None:
        self._fit.say(
            "where-place", node.span, "“where” and “by” stand only in a function of a collection, as in count(…)."
        )
        return None

    # and or not, comparisons, tests

    def _condition(self, node: tree.Node) -> Typed | None:
        typed = self.typed(node)
        if typed is not None and typed.type.kind != "yes_no":
            message = f"This is {say_kind(typed.type.kind)}; here a yes/no is needed."
            self._fit.say("wrong-type", node.span, message, "add a comparison, such as … > 3")
            return None
        return typed

    @typed.register
    def _(self, node: tree.Chain) -> Typed | None:
        parts = [self._condition(part) for part in node.parts]
        return self._fit.made(node.word, _YES_NO, node, parts)

    @typed.register
    def _(self, node: tree.Not) -> Typed | None:
        return self._fit.made("not", _YES_NO, node, [self._condition(node.operand)])

    @typed.register
    def _(self, node: tree.Compare) -> Typed | None:
        if self._compares_blank(node):
            return None
        sides = (self.typed(node.left), self.typed(node.right))
        several = next((side.type.kind for side in sides if side and side.type.kind in ("choices", "text_list")), None)
        if several is not None and node.sign in ("=", "!=") and None not in sides:
            hint = self._holding(node)
            message = f"“{node.sign}” does not compare {say_kind(several)}. Write {hint}."
            self._fit.say("wrong-type", node.span, message, hint)
            return None
        pair = self._brought([node.left, node.right], list(sides), node.span)
        if pair is None:
            return None
        kind = pair[0].type.kind
        if node.sign in ("=", "!="):
            if kind in _NOT_COMPARED:
                self._fit.say("wrong-type", node.span, f"“{node.sign}” does not compare {say_kind(kind)}.")
                return None
            return self._fit.made(node.sign, _YES_NO, node, list(pair))
        ordered = self._ordered(pair, node, f", so “{node.sign}” cannot stand here")
        return None if ordered is None else self._fit.made(node.sign, _YES_NO, node, list(ordered))

    def _holding(self, node: tree.Compare) -> str:
        """What to write in place of a comparison of a multiple choice: `crops holds "beans"`."""
        name = next((side.text for side in (node.left, node.right) if isinstance(side, tree.Name)), "…")
        item = next((side for side in (node.left, node.right) if isinstance(side, tree.Text)), None)
        word = "holds" if node.sign == "=" else "holds no"
        written = print_text_literal(item.value) if item else "…"
        return f"{name} holds {written}" if node.sign == "=" else f"{name} {word} ({written})"

    def _ordered(self, parts: tuple[Typed, ...], node: tree.Node, after: str) -> tuple[Typed, ...] | None:
        """The parts as values with an order: steps of a progress field become their place."""
        kind = parts[0].type.kind
        if kind == "choice" and parts[0].type.ordered:
            steps = parts[0].type.options
            return tuple(Typed("step_of", _NUMBER, part.span, (part,), items=steps) for part in parts)
        if kind not in ORDERED:
            self._fit.say("no-order", node.span, f"{say_kind(kind).capitalize()} has no order{after}.")
            return None
        return parts

    def _compares_blank(self, node: tree.Compare) -> bool:
        sides = (node.left, node.right)
        if not any(isinstance(side, tree.Blank) or (isinstance(side, tree.Text) and not side.value) for side in sides):
            return False
        right = "is blank" if node.sign == "=" else "is filled"
        self._fit.say("compare-blank", node.span, f"Nothing equals a blank; write “{right}”.", right)
        return True

    @typed.register
    def _(self, node: tree.Between) -> Typed | None:
        parts = self._agreeing([node.operand, node.low, node.high], node.span)
        if parts is None:
            return None
        ordered = self._ordered(parts, node, "")
        return None if ordered is None else self._fit.made("between", _YES_NO, node, list(ordered))

    @typed.register
    def _(self, node: tree.In) -> Typed | None:
        operand = self.typed(node.operand)
        items = [self.typed(item) for item in node.items]
        if operand is None:
            return None
        if operand.type.kind in _NOT_COMPARED:
            hint = f"{operand.name or '…'} holds any (…)" if operand.type.kind in ("choices", "text_list") else ""
            message = f"“in” does not take {say_kind(operand.type.kind)}." + (f" Write {hint}." if hint else "")
            self._fit.say("wrong-type", node.operand.span, message, hint)
            return None
        dated = any(item is not None and item.type.kind == "date" for item in items)
        if operand.type.kind == "datetime" and dated:
            operand = self._fit.fitted(operand, _DATE) or operand
        fitted = [self._fit.fitted(item, operand.type) for item in items if item is not None]
        if len(fitted) < len(items) or any(item is None for item in fitted):
            return None
        values = tuple(item.value for item in fitted if item is not None and item.value is not None)
        spans = tuple(item.span for item in fitted if item is not None and item.value is not None)
        found = Typed("in", _YES_NO, node.span, (operand,), items=values, item_spans=spans)
        return Typed("not", _YES_NO, node.span, (found,)) if node.negated else found

    @typed.register
    def _(self, node: tree.Holds) -> Typed | None:
        operand = self.typed(node.operand)
        if operand is None:
            return None
        if operand.type.kind not in ("choices", "text_list"):
            message = f"“holds” asks a multiple choice, tags or lists; this is {say_kind(operand.type.kind)}."
            self._fit.say("wrong-type", node.operand.span, message)
            return None
        found = self._options(operand.type, node.items)
        if found is None:
            return None
        return Typed(
            f"holds_{node.word or 'any'}",
            _YES_NO,
            node.span,
            (operand,),
            items=tuple(item.value for item in found),
            item_spans=tuple(item.span for item in found),
        )

    def _options(self, of: Type, nodes: Sequence[tree.Node]) -> list[Typed] | None:
        """Options of a choice as they are written out, or None where one will not do, already said."""
        one = Type("choice", of.options, of.source)
        found: list[Typed | None] = []
        for node in nodes:
            item = self.typed(node)
            item = None if item is None else self._fit.fitted(item, one)
            if item is not None and item.value is None:
                blank = item.operation == "const"
                message = "No option is an empty text." if blank else "Each option is written out."
                self._fit.say("compare-blank" if blank else "list-item", node.span, message)
                item = None
            found.append(item)
        sound = [item for item in found if item is not None]
        return sound if len(sound) == len(found) else None

    @typed.register
    def _(self, node: tree.TextTest) -> Typed | None:
        if node.word == "matches":
            operand = self._of_kind(node.left, frozenset(("text",)))
            pattern = node.right.value if isinstance(node.right, tree.Text) else ""
            return None if operand is None else Typed("matches", _YES_NO, node.span, (operand,), items=(pattern,))
        parts = [self._of_kind(side, frozenset(("text",))) for side in (node.left, node.right)]
        return self._fit.made(node.word.replace(" ", "_"), _YES_NO, node, parts)

    @typed.register
    def _(self, node: tree.IsBlank) -> Typed | None:
        return self._fit.made("is_filled" if node.filled else "is_blank", _YES_NO, node, [self.typed(node.operand)])

    @typed.register
    def _(self, node: tree.Else) -> Typed | None:
        parts = self._agreeing(list(node.parts), node.span, branches=True)
        return None if parts is None else self._fit.made("else", parts[0].type, node, list(parts))

    @typed.register
    def _(self, node: tree.Join) -> Typed | None:
        parts = [self.typed(part) for part in node.parts]
        for part in parts:
            if part is not None and part.type.kind != "text":
                hint = self._fit.as_text(part)
                remedy = f"; write {hint}" if hint else ""
                self._fit.say(
                    "wrong-type", part.span, f"“&” joins texts; this is {say_kind(part.type.kind)}{remedy}.", hint
                )
                return None
        return self._fit.made("concat", _TEXT, node, parts)

    # Arithmetic

    @typed.register
    def _(self, node: tree.Negate) -> Typed | None:
        operand = self._of_kind(node.operand, NUMERIC)
        return None if operand is None else self._fit.made("negate", operand.type, node, [operand])

    @typed.register
    def _(self, node: tree.Arithmetic) -> Typed | None:
        left, right = self.typed(node.left), self.typed(node.right)
        if left is None or right is None:
            return None
        if node.sign in "+-":
            return self._sums.sum(node, left, right)
        return self._sums.product(node, left, right)

    # Functions

    @typed.register
    def _(self, node: tree.Call) -> Typed | None:
        function = FUNCTIONS.get(node.function)
        if function is None:
            near = nearest(node.function, FUNCTIONS)
            message = f"No function is called {node.function}." + (f" Nearest: {near}." if near else "")
            self._fit.say(
                "unknown-function", Span(node.span.start, node.span.start + len(node.function)), message, near
            )
            for argument in node.arguments:
                self.typed(argument)
            return None
        if not self._count_fits(node, function):
            for argument in node.arguments:
                if not self._names.is_collection(argument):
                    self.typed(argument)
            return None
        if function.name in self._SPECIAL:
            return self._SPECIAL[function.name](self, node)
        if function.name in AGGREGATES and self._names.is_collection(node.arguments[0]):
            return self._names.collected(node, function)
        if function.collects:
            return self._count(node)
        return self._call(node, function)

    def _count(self, node: tree.Call) -> Typed | None:
        """`count(choices)`, `count_filled(a, b)`, `average(a, b)`; the others of these functions need a collection."""
        if node.function == "count_filled":
            return self._fit.made("count_values", _NUMBER, node, [self.typed(argument) for argument in node.arguments])
        if node.function == "average":
            agreed = self._agreeing(list(node.arguments), node.span)
            if agreed is not None and agreed[0].type.kind not in NUMERIC:
                self._fit.say(
                    "wrong-type", agreed[0].span, f"average needs numbers; this is {say_kind(agreed[0].type.kind)}."
                )
                return None
            return None if agreed is None else self._fit.made("mean", agreed[0].type, node, list(agreed))
        operand = self.typed(node.arguments[0])
        if operand is not None and node.function == "count" and operand.type.kind in ("choices", "text_list"):
            return self._fit.made("count_items", _NUMBER, node, [operand])
        if operand is not None:
            message = f"{node.function} needs a collection; this is {say_kind(operand.type.kind)}."
            self._fit.say("wrong-type", operand.span, message)
        return None

    def _count_fits(self, node: tree.Call, function: Function) -> bool:
        given, most = len(node.arguments), len(function.takes)
        odd_missing = function.name == "if" and given % 2 == 0
        one_only = function.collects and given > 1 and self._names.is_collection(node.arguments[0])
        fits = given >= function.least and (function.repeats or given <= most) and not odd_missing and not one_only
        if fits and not (function.name == "date" and given == 2):
            return True
        self._fit.say(
            "argument-count", node.span, f"{function.name} is written {function.signature}.", function.example
        )
        return False

    def _call(self, node: tree.Call, function: Function) -> Typed | None:
        if function.gives == "same" and (function.repeats or len(function.takes) > len(set(function.takes))):
            agreed = self._agreeing(list(node.arguments), node.span)
            if agreed is None:
                return None
            if agreed[0].type.kind not in function.takes[0]:
                self._wrong_argument(agreed[0], function, function.takes[0])
                return None
            return self._fit.made(function.name, agreed[0].type, node, list(agreed))
        parts: list[Typed | None] = []
        for place, argument in enumerate(node.arguments):
            takes = function.takes[min(place, len(function.takes) - 1)]
            parts.append(self._of_kind(argument, takes, function))
        if any(part is None for part in parts):
            return None
        gives = parts[0].type if function.gives == "same" and parts[0] is not None else Type(function.gives)  # type: ignore[arg-type]  # "same" is taken by the first branch
        return self._fit.made(function.name, gives, node, parts)

    def _wrong_argument(self, part: Typed, function: Function, takes: frozenset[Kind]) -> None:
        code = "no-order" if takes == ORDERED else "wrong-type"
        said = ("number", "money", "date") if takes == ORDERED else KIND_WORDS
        wanted = " or ".join(say_kind(kind) for kind in said if kind in takes)
        hint = self._fit.as_text(part) if "text" in takes else ""
        remedy = f" Write {hint}." if hint else ""
        self._fit.say(
            code, part.span, f"{function.name} needs {wanted}; this is {say_kind(part.type.kind)}.{remedy}", hint
        )

    def _if(self, node: tree.Call) -> Typed | None:
        *pairs, otherwise = node.arguments
        conditions = [self._condition(part) for part in pairs[0::2]]
        branches = [*pairs[1::2], otherwise]
        agreed = self._agreeing(branches, node.span, branches=True, blanks=True)
        if agreed is None or any(part is None for part in conditions):
            return None
        interleaved: list[Typed | None] = []
        for condition, branch in zip(conditions, agreed, strict=False):
            interleaved += [condition, branch]
        return self._fit.made("if", agreed[0].type, node, [*interleaved, agreed[-1]])

    def _pick(self, node: tree.Call) -> Typed | None:
        """`pick` is an `if` over the options of a choice, in words that fit it."""
        choice, *rest = node.arguments
        of = self.typed(choice)
        if of is None:
            return None
        if of.type.kind != "choice":
            self._fit.say("wrong-type", choice.span, f"pick needs a choice; this is {say_kind(of.type.kind)}.")
            return None
        options = rest[0 : len(rest) - len(rest) % 2 : 2]
        named = [option.value for option in options if isinstance(option, tree.Text)]
        for place, option in enumerate(options):
            if not isinstance(option, tree.Text) or option.value in named[:place]:
                self._fit.say("list-item", option.span, "Each option of pick is written out, and named once.")
                return None
        complete = len(rest) % 2 == 0 and set(of.type.options) <= set(named)
        if len(rest) % 2 == 0 and not complete:
            self._fit.say(
                "argument-count", node.span, "Not every option is named; add a value for the others at the end."
            )
            return None
        pairs: list[tree.Node] = []
        for option, value in zip(options, rest[1::2], strict=False):
            pairs += [tree.Compare("=", choice, option, span=option.span), value]
        otherwise = tree.Blank(span=node.span) if complete else rest[-1]
        return self._if(tree.Call("if", (*pairs, otherwise), span=node.span))

    def _date_call(self, node: tree.Call) -> Typed | None:
        if len(node.arguments) == 1:
            part = self.typed(node.arguments[0])
            found = None if part is None else self._fit.fitted(part, _DATE)
            return None if found is None else replace(found, span=node.span)
        return self._fit.made("date_of", _DATE, node, [self._of_kind(part, NUMBER) for part in node.arguments])

    def _payment(self, node: tree.Call) -> Typed | None:
        rate, periods = (self._of_kind(part, NUMBER, FUNCTIONS["payment"]) for part in node.arguments[:2])
        principal = self._of_kind(node.arguments[2], NUMERIC, FUNCTIONS["payment"])
        gives = _NUMBER if principal is None else principal.type
        return self._fit.made("payment", gives, node, [rate, periods, principal])

    def _of_history(self, node: tree.Call) -> Typed | None:
        """What reads how a value has changed: its operation is called as the function is, and names the field."""
        asked, *rest = node.arguments
        of = self._names.of_history(asked, FUNCTIONS[node.function])
        if node.function == "ever_held":
            return self._ever_held(node, of, rest)
        days = [self._of_kind(one, DATE) for one in rest]
        if of is None or any(day is None for day in days):
            return None
        if node.function == "value_on" and of.type.kind not in SIMPLE:
            self._fit.say("wrong-type", asked.span, f"value_on cannot be taken of {say_kind(of.type.kind)}.")
            return None
        gives = _MOMENT if node.function == "last_change" else of.type
        parts = tuple(day for day in days if day is not None)
        return Typed(node.function, gives, node.span, parts, name=of.name, about=of.about, level=of.level)

    def _ever_held(self, node: tree.Call, of: Typed | None, options: list[tree.Node]) -> Typed | None:
        items = self._options(of.type, options) if of is not None else None
        if of is None or items is None:
            return None
        return Typed(
            "ever_held",
            _YES_NO,
            node.span,
            (of,),
            items=tuple(item.value for item in items),
            item_spans=tuple(item.span for item in items),
            name=of.name,
            about=of.about,
            level=of.level,
        )

    _SPECIAL: Final = {
        "if": _if,
        "pick": _pick,
        "date": _date_call,
        "payment": _payment,
        **dict.fromkeys(OF_HISTORY, _of_history),
    }

    # Agreement of types

    def _of_kind(self, node: tree.Node, kinds: frozenset[Kind], function: Function | None = None) -> Typed | None:
        """A part of one of these kinds; a datetime or a written date will do for a date."""
        typed = self.typed(node)
        if typed is None or typed.type.kind in kinds:
            return typed
        if "date" in kinds and typed.type.kind == "datetime":
            return self._fit.fitted(typed, _DATE)
        written = self._fit.written_as(typed, kinds)
        if written is not None:
            return self._fit.fitted(typed, Type(written))
        if function is not None:
            self._wrong_argument(typed, function, kinds)
        else:
            wanted = " or ".join(say_kind(kind) for kind in KIND_WORDS if kind in kinds)
            hint = self._fit.as_text(typed) if "text" in kinds else ""
            remedy = f" Write {hint}." if hint else ""
            self._fit.say(
                "wrong-type", node.span, f"This is {say_kind(typed.type.kind)}; here {wanted} is needed.{remedy}", hint
            )
        return None

    def _agreeing(
        self, nodes: list[tree.Node], span: Span, *, branches: bool = False, blanks: bool = False
    ) -> tuple[Typed, ...] | None:
        """The parts brought to one type, or None where they have none, already said."""
        parts = [None if blanks and isinstance(node, tree.Blank) else self.typed(node) for node in nodes]
        return self._brought(nodes, parts, span, branches=branches, blanks=blanks)

    def _brought(
        self,
        nodes: list[tree.Node],
        parts: list[Typed | None],
        span: Span,
        *,
        branches: bool = False,
        blanks: bool = False,
    ) -> tuple[Typed, ...] | None:
        """See `_agreeing`, for parts that are typed already."""
        typed = [part for part in parts if part is not None]
        missing = sum(
            1
            for node, part in zip(nodes, parts, strict=True)
            if part is None and not (blanks and isinstance(node, tree.Blank))
        )
        if missing:
            return None
        if not typed:
            self._fit.say("blank-place", span, "At least one branch must be something else than blank.")
            return None
        common = self._fit.common(typed, span, branches)
        if common is None:
            return None
        result = []
        for node, part in zip(nodes, parts, strict=True):
            fitted = Typed("const", common, node.span) if part is None else self._fit.fitted(part, common, branches)
            if fitted is None:
                return None
            result.append(fitted)
        return tuple(result)
