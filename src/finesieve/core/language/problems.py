"""Problems are data: a code, a place, plain words and, where there is one, a remedy."""

from dataclasses import dataclass
from typing import Final

__all__ = ["CATALOGUE", "FIXABLE", "Entry", "Problem", "Span"]


@dataclass(frozen=True, slots=True)
class Span:
    """A place in a text: `start` included, `end` not, counted in code points."""

    start: int
    end: int

    def to(self, other: "Span") -> "Span":
        """From the start of this one to the end of the other."""
        return Span(self.start, other.end)


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing wrong with an expression.

    `hint` is what could stand at the place instead; it may be empty.
    """

    code: str
    span: Span
    message: str
    hint: str = ""


@dataclass(frozen=True, slots=True)
class Entry:
    """What a code means, and texts that produce it over the fields of the tests."""

    meaning: str
    samples: tuple[str, ...]


CATALOGUE: Final[dict[str, Entry]] = {
    "syntax": Entry("The text breaks off or something stands where it cannot.", ("1 +", "(2", "1 2")),
    "empty": Entry("There is nothing to work out.", ("", "  # only a comment")),
    "wrong-sign": Entry("A sign of another notation.", ("plot_length <> 3", "plot_length ≥ 3", "zone == 'north'")),
    "bad-pattern": Entry("The pattern after “matches” cannot be read.", ("name matches '('", "name matches ''")),
    "chained": Entry("Comparisons cannot be chained.", ("1 < plot_length < 3",)),
    "is-filled": Entry("“is not blank” is written “is filled”.", ("name is not blank",)),
    "compare-blank": Entry("Nothing equals blank; ask “is blank”.", ("name = blank", "name != ''")),
    "empty-list": Entry("A list needs at least one value.", ("zone in ()",)),
    "list-item": Entry("A list holds only written-out values.", ("plot_length in (plot_width)",)),
    "too-long": Entry("More than 4,000 characters.", ()),
    "too-deep": Entry("More than 64 levels of brackets.", ()),
    "too-big": Entry("More than 500 parts, or 200 values in one list.", ()),
    "bad-number": Entry("More than 15 digits before the point or 10 after it.", ("1234567890123456",)),
    "unknown-field": Entry("No field has this key.", ("plot_lenght + 1",)),
    "deleted-field": Entry("The field was deleted; it can be brought back for 90 days.", ()),
    "collection": Entry(
        "A collection of records cannot stand for one value.", ("plots + 1", "plots.area > 3", "plots")
    ),
    "where-place": Entry(
        "“where” and “by” belong into a function of a collection.",
        ("round(fee where member)", "count(crops where member)"),
    ),
    "unknown-prefix": Entry("The word before the point is no prefix here.", ("cart.total > 3", "form.zone = 'north'")),
    "unknown-function": Entry("No function has this name.", ("rond(1.5)",)),
    "argument-count": Entry("Too few or too many arguments.", ("round()", "today(1)", "if(true, 1)")),
    "wrong-type": Entry(
        "The type does not fit its place.", ("name + 1", "born < name", "round(name)", "not plot_length")
    ),
    "unknown-option": Entry("The choice has no such option.", ("zone = 'nort'", "zone in ('north', 'est')")),
    "bad-literal": Entry("The text cannot be read as the type it meets.", ("born = '2020-13-01'", "opens = '25:00'")),
    "no-order": Entry("Values of this type have no order.", ("name < 'b'", "max(name, 'b')")),
    "money-arithmetic": Entry("Money does not go with this sign.", ("fee * fee", "1 / fee", "fee + 10%")),
    "blank-place": Entry("“blank” can only be a branch of if.", ("blank + 1", "if(true, blank, blank)")),
    "branch-types": Entry("The branches are of different types.", ("if(true, 1, 'a')", "name else 1")),
    "add-parentheses": Entry(
        "Brackets are needed to say which is meant.", ("member = not member", "name is blank else true")
    ),
    "history": Entry(
        "The past of this cannot be read here: it is worked out, or the rule is of a form or a chat.",
        (),
    ),
    "circle": Entry("A derived field that would be worked out from itself.", ()),
}

FIXABLE: Final = frozenset(("unknown-field", "unknown-function", "unknown-option", "wrong-sign", "is-filled"))
"""Codes whose hint, where there is one, can stand in place of the span as it is."""
