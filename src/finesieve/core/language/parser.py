"""Text to tree. All that can be said of a text that does not parse is said as problems."""

import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from functools import cache, lru_cache
from typing import Any, Final

from lark import Lark, Transformer, v_args
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken, VisitError
from lark.tree import Meta

from finesieve.core.fields.keys import RESERVED
from finesieve.core.language import tree
from finesieve.core.language.grammar import GRAMMAR
from finesieve.core.language.problems import Problem, Span
from finesieve.core.patterns import compile_pattern
from finesieve.core.values import keepable

__all__ = ["Parsed", "get_ready", "has_comments", "parse"]

MOST_CHARACTERS: Final = 4_000
MOST_LEVELS: Final = 64
MOST_NODES: Final = 500
MOST_ITEMS: Final = 200
MOST_NAME_CHARACTERS: Final = 60


@dataclass(frozen=True, slots=True)
class Parsed:
    """The tree, or None where there are problems."""

    tree: tree.Node | None
    problems: tuple[Problem, ...] = ()


@lru_cache(maxsize=2_048)
def parse(text: str) -> Parsed:
    """Read an expression. Never raises for any text. What was read lately is remembered: trees do not change."""
    problems = _before_parsing(text)
    if problems:
        return Parsed(None, problems)
    builder = _Builder()
    try:
        node = builder.build(text)
    except UnexpectedInput as error:
        return Parsed(None, (_syntax_problem(text, error),))
    if sum(1 for _ in tree.walk(node)) > MOST_NODES:
        builder.say("too-big", node.span, f"An expression has at most {MOST_NODES} parts.")
    if builder.problems:
        return Parsed(None, tuple(builder.problems))
    return Parsed(node)


# What is checked on the characters, before any parsing ------------------------------------

_SCAN: Final = re.compile(
    r"""(?P<skip>"(?:\\.|[^"\\\r\n])*"|'(?:\\.|[^'\\\r\n])*'|\#[^\n]*)"""
    r"""|(?P<open>\()|(?P<close>\))|(?P<prefix>-|not(?![a-z0-9_]))"""
    r"""|(?P<sign><>|==|&&|\|\||!(?!=)|[;≤≥≠“”„‘’×÷−])|(?P<space>[ \t\r\n\u00a0]+)|(?P<word>\w+|.)""",
    re.IGNORECASE,
)
_RIGHT_SIGNS: Final = {
    "<>": "!=",
    "==": "=",
    "&&": "and",
    "||": "or",
    "!": "not",
    ";": ",",
    "≤": "<=",
    "≥": ">=",
    "≠": "!=",
    "“": '"',
    "”": '"',
    "„": '"',
    "‘": "'",
    "’": "'",
    "×": "*",
    "÷": "/",
    "−": "-",
}


def _before_parsing(text: str) -> tuple[Problem, ...]:
    if len(text) > MOST_CHARACTERS:
        message = f"An expression has at most {MOST_CHARACTERS:,} characters; this one has {len(text):,}."
        return (Problem("too-long", Span(MOST_CHARACTERS, len(text)), message),)
    unkept = next((place for place, sign in enumerate(text) if not keepable(sign)), None)
    if unkept is not None:
        message = "This holds a character that cannot be kept; type it anew."
        return (Problem("syntax", Span(unkept, unkept + 1), message),)
    problems: list[Problem] = []
    brackets = prefixes = 0
    anything = False
    for match in _SCAN.finditer(text):
        kind, span = match.lastgroup, Span(*match.span())
        if kind == "space" or (kind == "skip" and match[0].startswith("#")):
            continue
        anything = True
        brackets += (kind == "open") - (kind == "close")
        prefixes = prefixes + 1 if kind == "prefix" else 0
        if brackets + prefixes > MOST_LEVELS:
            message = f"An expression is at most {MOST_LEVELS} levels deep."
            return (Problem("too-deep", span, message),)
        if kind == "sign":
            right = _RIGHT_SIGNS[match[0]]
            problems.append(Problem("wrong-sign", span, f"“{match[0]}” is written {right} here.", right))
    if not anything:
        problems.append(Problem("empty", Span(0, len(text)), "There is nothing here to work out yet."))
    return tuple(problems)


def has_comments(text: str) -> bool:
    """Whether a text holds comments, which a tree does not keep."""
    return any(match.lastgroup == "skip" and match[0].startswith("#") for match in _SCAN.finditer(text))


# From lark's events to our nodes -----------------------------------------------------------

_ESCAPES: Final = {"n": "\n", "t": "\t", "\\": "\\", '"': '"', "'": "'"}


def _unescape(body: str) -> str:
    """A backslash before anything but n t \\ " ' stands for itself."""
    return re.sub(r"\\(.)", lambda match: _ESCAPES.get(match[1], match[0]), body, flags=re.DOTALL)


def _literal_text(literal: str) -> str:
    return unicodedata.normalize("NFC", _unescape(literal[1:-1]))


def _span(meta: Meta) -> Span:
    return Span(meta.start_pos, meta.end_pos)


@v_args(meta=True)
class _Builder(Transformer[Any, tree.Node]):
    """Builds nodes and collects what the grammar alone cannot refuse."""

    def __init__(self) -> None:
        super().__init__()
        self.problems: list[Problem] = []

    def build(self, text: str) -> tree.Node:
        try:
            return self.transform(_lark().parse(text))
        except VisitError as error:  # pragma: no cover - a defect of ours, shown as it is
            raise error.orig_exc from error

    def say(self, code: str, span: Span, message: str, hint: str = "") -> None:
        self.problems.append(Problem(code, span, message, hint))

    def start(self, _meta: Meta, parts: list[Any]) -> tree.Node:
        node: tree.Node = parts[0]
        return node

    def or_(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Chain("or", tuple(parts), span=_span(meta))

    def and_(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Chain("and", tuple(parts), span=_span(meta))

    def not_op(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Not(parts[0], span=_span(meta))

    def compare(self, meta: Meta, parts: list[Any]) -> tree.Node:
        left, sign, right = parts
        return tree.Compare(str(sign), left, right, span=_span(meta))  # type: ignore[arg-type]  # the terminal CMP

    def chained(self, meta: Meta, parts: list[Any]) -> tree.Node:
        message = "Comparisons cannot be chained. For a range write: … between … and …"
        self.say("chained", _span(meta), message, "between")
        return tree.Blank(span=_span(meta))

    def between(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Between(*parts, span=_span(meta))

    def in_(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.In(parts[0], parts[1], span=_span(meta))

    def not_in(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.In(parts[0], parts[1], negated=True, span=_span(meta))

    def contains(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.TextTest("contains", *parts, span=_span(meta))

    def starts_with(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.TextTest("starts with", *parts, span=_span(meta))

    def ends_with(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.TextTest("ends with", *parts, span=_span(meta))

    def matches(self, meta: Meta, parts: list[Any]) -> tree.Node:
        operand, literal = parts
        place = Span(literal.start_pos, literal.end_pos)
        pattern = _literal_text(str(literal))
        try:
            compile_pattern(pattern)
        except ValueError as problem:
            self.say("bad-pattern", place, str(problem))
        return tree.TextTest("matches", operand, tree.Text(pattern, span=place), span=_span(meta))

    def holds(self, meta: Meta, parts: list[Any]) -> tree.Node:
        operand, item = parts
        if not isinstance(item, tree.Text):
            self.say("list-item", item.span, 'After “holds” stands one written-out value, such as "beans".')
        return tree.Holds("", operand, (item,), span=_span(meta))

    def holds_any(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Holds("any", parts[0], parts[1], span=_span(meta))

    def holds_every(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Holds("every", parts[0], parts[1], span=_span(meta))

    def holds_no(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Holds("no", parts[0], parts[1], span=_span(meta))

    def where(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Filtered(parts[0], parts[1], span=_span(meta))

    def by(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Filtered(parts[0], None, parts[1], span=_span(meta))

    def where_by(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Filtered(*parts, span=_span(meta))

    def fname(self, _meta: Meta, parts: list[Any]) -> Any:
        return str(parts[0])

    def fname_any(self, _meta: Meta, _parts: list[Any]) -> Any:
        return "any"

    def is_blank(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.IsBlank(parts[0], span=_span(meta))

    def is_filled(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.IsBlank(parts[0], filled=True, span=_span(meta))

    def alt(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Else(tuple(parts), span=_span(meta))

    def joined(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Join(tuple(parts), span=_span(meta))

    def sum(self, _meta: Meta, parts: list[Any]) -> tree.Node:
        return self._left_to_right(parts)

    def term(self, _meta: Meta, parts: list[Any]) -> tree.Node:
        return self._left_to_right(parts)

    def _left_to_right(self, parts: list[Any]) -> tree.Node:
        node: tree.Node = parts[0]
        for sign, right in zip(parts[1::2], parts[2::2], strict=True):
            node = tree.Arithmetic(sign.value, node, right, span=node.span.to(right.span))
        return node

    def minus(self, meta: Meta, parts: list[Any]) -> tree.Node:
        operand = parts[1]
        if isinstance(operand, tree.Number) and operand.value >= 0:
            # A minus before an unsigned literal is part of it; there is no negative zero.
            return tree.Number(0 - operand.value, operand.percent, span=_span(meta))
        return tree.Negate(operand, span=_span(meta))

    def number(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return self._number(str(parts[0]), percent=False, span=_span(meta))

    def percent(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return self._number(str(parts[0])[:-1], percent=True, span=_span(meta))

    def _number(self, digits: str, *, percent: bool, span: Span) -> tree.Node:
        whole, _, places = digits.partition(".")
        if len(whole) > 15 or len(places) > 10:
            self.say("bad-number", span, "A number has at most 15 digits before the point and 10 after it.")
            return tree.Number(Decimal(0), span=span)
        value = Decimal(digits)
        return tree.Number(value.scaleb(-2) if percent else value, percent, span=span)

    def text(self, meta: Meta, parts: list[Any]) -> tree.Node:
        return tree.Text(_literal_text(str(parts[0])), span=_span(meta))

    def true(self, meta: Meta, _parts: list[Any]) -> tree.Node:
        return tree.YesNo(True, span=_span(meta))

    def false(self, meta: Meta, _parts: list[Any]) -> tree.Node:
        return tree.YesNo(False, span=_span(meta))

    def blank(self, meta: Meta, _parts: list[Any]) -> tree.Node:
        return tree.Blank(span=_span(meta))

    def path(self, meta: Meta, parts: list[Any]) -> tree.Node:
        names = tuple(str(part).lower() for part in parts)
        if any(len(name) > MOST_NAME_CHARACTERS for name in names):
            self.say("unknown-field", _span(meta), f"A key has at most {MOST_NAME_CHARACTERS} characters.")
        return tree.Name(names, span=_span(meta))

    def call(self, meta: Meta, parts: list[Any]) -> tree.Node:
        arguments = tuple(part for part in parts[1:] if part is not None)
        return tree.Call(str(parts[0]).lower(), arguments, span=_span(meta))

    def list(self, meta: Meta, parts: list[Any]) -> tuple[tree.Node, ...]:
        if len(parts) > MOST_ITEMS:
            self.say("too-big", _span(meta), f"A list holds at most {MOST_ITEMS} values.")
        for part in parts:
            if not isinstance(part, tree.Number | tree.Text | tree.YesNo) and not _written_date(part):
                message = 'A list holds only written-out values, such as 3, "north" or date("2026-03-01").'
                self.say("list-item", part.span, message)
        return tuple(parts)


def _written_date(part: tree.Node) -> bool:
    """Whether this is `date("…")`, which counts as written out."""
    dated = isinstance(part, tree.Call) and part.function == "date" and len(part.arguments) == 1
    return dated and isinstance(part.arguments[0], tree.Text)  # type: ignore[attr-defined]  # a call, see above


def get_ready() -> None:
    """Make the tables of the grammar, which the first text would otherwise wait for."""
    _lark()


@cache
def _lark() -> Lark:
    return Lark(GRAMMAR, parser="lalr", propagate_positions=True, maybe_placeholders=True, strict=False)


# What to say of a text that does not parse ---------------------------------------------------

_HABITS: Final = (
    (re.compile(r"\bis\s+not\s+blank\b", re.I), "is-filled", "“is not blank” is written “is filled”.", "is filled"),
    (re.compile(r"\bis\s+not\s+filled\b", re.I), "is-filled", "“is not filled” is written “is blank”.", "is blank"),
    (
        re.compile(r"\bnot\s+(between|contains|starts|ends|holds|matches|is)\b", re.I),
        "add-parentheses",
        "Only “in” has a form with “not”; put the rest in brackets: not (…).",
        "not (…)",
    ),
    (
        re.compile(r"\bin\s+([\"'][^\"'\n]*[\"']?|\w+)", re.I),
        "syntax",
        'After “in” stands a list in brackets: in (…), such as in ("north", "hill").',
        "(…)",
    ),
    (
        re.compile(r"\bis\s+(?=[\"'0-9])", re.I),
        "syntax",
        "After “is” stands blank or filled; that two things are equal is written “=”.",
        "=",
    ),
    (re.compile(r"\bin\s*\(\s*\)", re.I), "empty-list", "The list is empty; it needs at least one value.", ""),
    (
        re.compile(r"[=<>]\s*(not\b[^)]*)", re.I),
        "add-parentheses",
        "Put brackets round the part with “not”: … = (not …).",
        "(not …)",
    ),
    (
        re.compile(r"\bis\s+(blank|filled)\s+else\b", re.I),
        "add-parentheses",
        "Put brackets round the question: (… is blank) else …",
        "(…)",
    ),
)
_MISTYPED: Final[tuple[tuple[re.Pattern[str], str, Callable[[str], str]], ...]] = (
    (
        re.compile(r"\b\d{1,3}(,\d{3})+\b"),
        "A number has no commas between its digits: {}.",
        lambda one: one.replace(",", ""),
    ),
    (re.compile(r"\b\d+,\d+\b"), "A number is written with a point: {}.", lambda one: one.replace(",", ".")),
    (
        re.compile(r"\b\d+(\.\d+)?\s+%"),
        "A percentage has its sign right after it: {}.",
        lambda one: "".join(one.split()),
    ),
)
"""Numbers as people write them elsewhere, where they cannot stand so."""
_PLAIN: Final = {
    "NAME": "a field or function",
    "NUMBER": "a number",
    "TEXT": "a text in quotes",
    "CMP": "a comparison such as =",
    "LPAR": "(",
    "RPAR": ")",
    "COMMA": ",",
    "_AND_SIGN": "&",
    "PLUS": "+",
    "MINUS": "-",
    "STAR": "*",
    "SLASH": "/",
    "DOT": ".",
    "$END": "the end",
}
_UNSAID: Final = frozenset(("PERCENT", "_TRUE", "_FALSE", "_BLANK", "DOT"))


def _syntax_problem(text: str, error: UnexpectedInput) -> Problem:
    place = _place(text, error)
    found = text[place.start : place.end]
    for pattern, code, message, hint in _HABITS:
        match = pattern.search(text)
        if match and match.start() <= place.start <= match.end():
            return Problem(code, Span(*match.span()), message, hint)
    for pattern, says, rightly in _MISTYPED:
        for match in pattern.finditer(text):
            if found in (",", "%") and match.start() < place.start < match.end():
                hint = rightly(match[0])
                return Problem("syntax", Span(*match.span()), says.format(hint), hint)
    expected = _expected(error)
    wanted = f" Here could stand {expected}." if expected else ""
    if place.start >= len(text.rstrip()):
        return Problem("syntax", place, f"The text breaks off.{wanted}")
    if found[:1] in "\"'" and (len(found) == 1 or found[-1] != found[0]):
        return Problem("syntax", place, "The quote is not closed on this line.", found[0])
    if found.lower() in RESERVED:
        return Problem("syntax", place, f"“{found}” is a word of the language and cannot stand here.{wanted}")
    return Problem("syntax", place, f"“{found}” cannot stand here.{wanted}")


def _place(text: str, error: UnexpectedInput) -> Span:
    if isinstance(error, UnexpectedToken) and error.token.type == "$END":
        end = len(text)
        return Span(max(len(text.rstrip()), 0), end) if text != text.rstrip() else Span(end, end)
    start = error.pos_in_stream or 0
    match = re.compile(r"\w+|\"[^\"\n]*\"?|'[^'\n]*'?|.", re.DOTALL).match(text, start)
    return Span(start, match.end() if match else start)


def _expected(error: UnexpectedInput) -> str:
    if isinstance(error, UnexpectedToken):
        names = error.accepts or set()
    elif isinstance(error, UnexpectedCharacters):
        names = error.allowed or set()
    else:
        names = set()
    said = [_PLAIN.get(name) or name.strip("_").lower() for name in sorted(names - _UNSAID)]
    said.sort(key=lambda word: (word[0].isalpha(), word))
    if len(said) > 8:
        said = [word for word in said if word in _PLAIN.values()]
    return ", ".join(said[:-1]) + (" or " if said[1:] else "") + said[-1] if said else ""
