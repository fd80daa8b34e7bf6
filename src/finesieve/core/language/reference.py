"""The reference of the language, made from its own tables: operators, functions, problems; and words for completion."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final, Literal

from finesieve.core.fields.contexts import CONTEXTS, Context
from finesieve.core.language.functions import FUNCTIONS
from finesieve.core.language.names import World
from finesieve.core.language.problems import CATALOGUE
from finesieve.core.language.typed import OF_HISTORY
from finesieve.core.values import KINDS, Type

__all__ = ["OPERATORS", "Operator", "Word", "reference_page", "words_of"]


@dataclass(frozen=True, slots=True)
class Operator:
    """One operator or group of them: how it is written, what it means, an example."""

    signs: str
    help: str
    example: str


OPERATORS: Final = (
    Operator("or", "True where one part is true; unknown where none is and one is unknown.", "member or born is blank"),
    Operator("and", "True where all parts are; false where one is.", "member and plot_length > 3"),
    Operator("not", "The other way round; unknown stays unknown.", "not member"),
    Operator("= !=", "Equal or not; texts by code point.", 'zone = "north"'),
    Operator("< <= > >=", "Smaller or larger: numbers, money, dates, times, steps of progress.", "plot_length >= 3"),
    Operator("between … and …", "Both ends belong to it.", "plot_length between 3 and 6"),
    Operator("in (…) · not in (…)", "One of the values written out, or none of them.", 'zone in ("north", "hill")'),
    Operator("contains · starts with · ends with", "In a text, whatever the case.", 'name starts with "wr"'),
    Operator("matches", "The whole text has a pattern (RE2).", 'name matches "[A-Z].*"'),
    Operator("holds", "Of a multiple choice, tags or lists: this one is chosen.", 'crops holds "beans"'),
    Operator("holds any (…)", "One of these is chosen, at least.", 'crops holds any ("beans", "kale")'),
    Operator("holds every (…)", "All of these are chosen.", 'crops holds every ("beans", "kale")'),
    Operator("holds no (…)", "None of these is chosen.", 'crops holds no ("beans")'),
    Operator("is blank · is filled", "There is no value, or there is one; never unknown.", "born is filled"),
    Operator("a else b", "a, or b where a is blank.", "depth else 4"),
    Operator("&", "Joins texts; a blank counts as nothing.", 'name & "!"'),
    Operator("+ -", "Adds and takes away; a date ± days, days + a date; two dates differ by days.", "born + 30"),
    Operator("* /", "Multiplies and divides; money by a number is money.", "fee * 1.2"),
    Operator("-x", "The number with the other sign.", "-depth"),
    Operator("15%", "0.15.", "fee * 15%"),
    Operator("where", "In a function of records: only those for which it is true.", 'count(plots where soil = "clay")'),
    Operator("by", "In latest and first: the largest, or smallest, of this.", "latest(plots.area by limed_on)"),
    Operator("# …", "A comment, to the end of the line.", "plot_length # in metres"),
)
"""The operators, weakest first."""


@dataclass(frozen=True, slots=True)
class Word:
    """Something that can be written: its text, what it is, one line of help; `options` are those of a choice."""

    text: str
    kind: Literal["field", "house", "records", "function", "word"]
    help: str
    options: tuple[tuple[str, str], ...] = ()


_WORDS: Final = (
    ("and", "all of it"), ("or", "one of it"), ("not", "the other way round"), ("between", "… and …"), ("in", "(…)"),
    ("contains", "a text"), ("starts with", "a text"), ("ends with", "a text"), ("matches", "a pattern"),
    ("holds", "one option"), ("holds any", "(…)"), ("holds every", "(…)"), ("holds no", "(…)"),
    ("is blank", "no value"), ("is filled", "a value"), ("else", "where it is blank"),
    ("true", "yes"), ("false", "no"), ("blank", "no value"),
    ("where", "only those records"), ("by", "in this order"),
)  # fmt: skip


def words_of(world: World) -> Iterator[Word]:
    """All that an expression may be made of in a world: names, house values, collections, functions, words."""
    for place in (*reversed(world.inner), world.base):
        for key, type_ in place.names.items():
            yield Word(world.name_of(key, place.about), "field", _say(type_), _options(type_))
        for key, member in place.collections.items():
            yield Word(key, "records", "records; use them in count(…), sum(…) and the like")
            known = world.members.get(member)
            for name, type_ in known.names.items() if known else ():
                yield Word(
                    f"{key}.{world.name_of(name, member)}", "records", f"of each: {_say(type_)}", _options(type_)
                )
    for prefix, names in world.prefixes.items():
        for key, type_ in (names or {}).items():
            about = CONTEXTS[prefix].about or world.base.about
            yield _after_point(CONTEXTS[prefix], world.name_of(key, about), type_)
    functions = [one for one in FUNCTIONS.values() if world.remembered or one.name not in OF_HISTORY]
    yield from (Word(f"{one.name}(", "function", f"{one.signature}: {one.help}") for one in functions)
    yield from (Word(text, "word", meaning) for text, meaning in _WORDS)


def _after_point(context: Context, key: str, type_: Type) -> Word:
    if context.source == "house":
        return Word(f"{context.prefix}.{key}", "house", _say(type_), _options(type_))
    return Word(f"{context.prefix}.{key}", "field", f"{_say(type_)}; {context.means}", _options(type_))


def _say(type_: Type) -> str:
    kind = type_.kind.replace("_", " ").replace("yes no", "yes or no").replace("choices", "several of a choice")
    return f"{kind}, {type_.unit}" if type_.unit else kind


def _options(type_: Type) -> tuple[tuple[str, str], ...]:
    return tuple(zip(type_.options, type_.words, strict=True))[:60]


def reference_page() -> str:
    """The reference as Markdown, as it stands in docs/language-reference.md."""
    lines = ["# Reference of the expression language", ""]
    lines += [
        "Made by `finesieve reference` from the tables that the checker itself reads; a test holds it to them.",
        "",
    ]
    lines += ["## Operators, weakest first", "", "| written | means | example |", "|---|---|---|"]
    lines += [f"| `{one.signs}` | {one.help} | `{one.example}` |" for one in OPERATORS]
    lines += ["", "## Words before a point", "", "| written | means | has a meaning |", "|---|---|---|"]
    lines += [f"| `{one.prefix}.` | {one.means} | {one.where} |" for one in CONTEXTS.values()]
    lines += ["", "## Functions", "", "| written | means | example |", "|---|---|---|"]
    for function in FUNCTIONS.values():
        written = " · ".join(f"`{signature}`" for signature in function.signature.split(" · "))
        lines.append(f"| {written} | {function.help} | `{function.example}` |")
    lines += ["", "## Problems", "", "| code | means | for example |", "|---|---|---|"]
    for code, entry in CATALOGUE.items():
        samples = ", ".join(f"`{sample}`" for sample in entry.samples[:2] if sample.strip() and "#" not in sample)
        lines.append(f"| `{code}` | {entry.meaning} | {samples or '–'} |")
    lines += ["", "## Types", "", ", ".join(f"`{kind}`" for kind in KINDS), ""]
    return "\n".join(lines)
