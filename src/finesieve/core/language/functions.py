"""Every function: those with rules of their own are declared here, the plain ones in the library.

Editor help, the reference page and the checker read this table; the Python
meaning stands in the evaluator and the SQL meaning in the store's compiler,
and a test holds both complete.
"""

import difflib
from collections.abc import Iterable
from typing import Final

from finesieve.core.language.declare import CHOICE, CHOICES, DATE, NUMBER, NUMBERS, ORDERED, TEXT, Function
from finesieve.core.language.library import LIBRARY
from finesieve.core.values import KINDS, Kind

__all__ = ["FUNCTIONS", "nearest"]

_COLLECTION: Final[frozenset[Kind]] = frozenset(("collection",))
_ANY: Final[frozenset[Kind]] = frozenset(KINDS)
_SHOWN: Final = ORDERED | TEXT | CHOICE | frozenset[Kind](("yes_no", "choices", "text_list"))


FUNCTIONS: Final[dict[str, Function]] = {
    function.name: function
    for function in (
        Function(
            "if",
            "if(condition, a, b) · if(c1, a1, c2, a2, …, otherwise)",
            "The value beside the first condition that is true; blank where a condition meets a blank.",
            'if(plot_length > 10, "large", "small")',
            (),
            "same",
            3,
            repeats=True,
        ),
        Function(
            "pick",
            "pick(choice, option, value, …, otherwise)",
            "The value beside the option chosen; the last may be left out where every option is named.",
            'pick(zone, "north", 2, "hill", 3, 1)',
            (),
            "same",
            3,
            repeats=True,
        ),
        Function(
            "label",
            "label(choice)",
            "The label of the option chosen, as people read it.",
            "label(zone)",
            (CHOICE,),
            "text",
            1,
        ),
        Function(
            "score",
            "score(choice or choices)",
            "The scores of the options chosen, added up; an option without one counts 0.",
            "score(zone)",
            (CHOICE | frozenset(("choices",)),),
            "number",
            1,
        ),
        Function(
            "join",
            "join(choices or list, separator)",
            "The labels of what is chosen, in the order of the options, or the texts of a list, with a text between.",
            'join(crops, ", ")',
            (frozenset(("choices", "text_list")), TEXT),
            "text",
            2,
        ),
        Function(
            "replace",
            "replace(text, from, to)",
            "The text with every occurrence of one text made another; a blank third text takes them out.",
            'replace(name, "-", " ")',
            (TEXT, TEXT, TEXT),
            "text",
            3,
        ),
        Function(
            "text",
            "text(x)",
            "The value as people read it: numbers, amounts and dates in the way of the house, choices by their labels.",
            "text(round(plot_length, 1))",
            (_SHOWN,),
            "text",
            1,
        ),
        Function(
            "payment",
            "payment(rate_per_period, periods, principal)",
            "The equal payment a period that pays a loan back with its interest; periods are whole, 1 to 12,000.",
            "payment(1%, 12, fee)",
            (NUMBER, NUMBER, NUMBERS),
            "number",
            3,
        ),
        Function(
            "date",
            'date("2026-03-01") · date(year, month, day) · date(datetime)',
            "A date: as written, of its parts, or the day of a moment; blank where there is no such day.",
            "date(year(born), 1, 1)",
            (NUMBER, NUMBER, NUMBER),
            "date",
            1,
        ),
        Function(
            "round",
            "round(x, places = 0)",
            "Rounds half away from zero; places from −15 to 10.",
            "round(plot_length * 0.8, 1)",
            (NUMBERS, NUMBER),
            "same",
            1,
        ),
        Function(
            "sum",
            "sum(a, b, …)",
            "Adds the values, leaving out blanks; 0 where all are blank. Also of a column of records: sum(plots.area).",
            "sum(plot_length, plot_width)",
            (NUMBERS,),
            "same",
            1,
            repeats=True,
        ),
        Function(
            "min",
            "min(a, b, …)",
            "The smallest of the values, leaving out blanks.",
            "min(plot_length, 10)",
            (ORDERED,),
            "same",
            1,
            repeats=True,
        ),
        Function(
            "max",
            "max(a, b, …)",
            "The largest of the values, leaving out blanks.",
            "max(plot_length, plot_width)",
            (ORDERED,),
            "same",
            1,
            repeats=True,
        ),
        Function(
            "years_between",
            "years_between(from, to)",
            "Whole years from one date to another.",
            "years_between(born, signed_up_on)",
            (DATE, DATE),
            "number",
            2,
        ),
        Function(
            "age",
            "age(date)",
            "Whole years from the date to today; right on every day.",
            "age(born) >= 16",
            (DATE,),
            "number",
            1,
        ),
        Function(
            "today",
            "today()",
            "The day it is where the business is.",
            "today() - signed_up_on",
            (),
            "date",
            0,
        ),
        *(function for function, _ in LIBRARY.values()),
        Function(
            "count",
            "count(plots where condition)",
            "How many records there are, or for how many the condition is true; also how many choices are made.",
            'count(plots where soil = "clay")',
            (_COLLECTION,),
            "number",
            1,
            collects=True,
        ),
        Function(
            "count_filled",
            "count_filled(a, b, …) · count_filled(plots.column where condition)",
            "How many of the values are filled; how many records have a value there.",
            "count_filled(plots.limed_on)",
            (_COLLECTION,),
            "number",
            1,
            repeats=True,
            collects=True,
        ),
        Function(
            "average",
            "average(a, b, …) · average(plots.column where condition)",
            "The mean of the values, leaving out blanks; blank where there is none.",
            "average(plots.area)",
            (_COLLECTION,),
            "same",
            1,
            repeats=True,
            collects=True,
        ),
        Function(
            "any",
            "any(plots where condition)",
            "Whether the condition is true for at least one record; false where there is no record.",
            'any(plots where soil = "clay")',
            (_COLLECTION,),
            "yes_no",
            1,
            collects=True,
        ),
        Function(
            "all",
            "all(plots where condition)",
            "Whether the condition is true for every record; true where there is no record.",
            "all(plots where limed_on is filled)",
            (_COLLECTION,),
            "yes_no",
            1,
            collects=True,
        ),
        Function(
            "latest",
            "latest(plots.column where condition by order)",
            "The value of the record with the largest order, blanks left out; without an order, of the newest.",
            "latest(plots.limed_on by limed_on)",
            (_COLLECTION,),
            "same",
            1,
            collects=True,
        ),
        Function(
            "first",
            "first(plots.column where condition by order)",
            "The value of the record with the smallest order, blanks left out; without an order, of the oldest.",
            "first(plots.soil by leased_until)",
            (_COLLECTION,),
            "same",
            1,
            collects=True,
        ),
        Function(
            "last_change",
            "last_change(field)",
            "The moment when the stored value of a person was last changed; blank if it never was.",
            "last_change(zone)",
            (_ANY,),
            "datetime",
            1,
        ),
        Function(
            "ever_held",
            "ever_held(choice, option, …)",
            "Whether a choice, a multiple choice or tags ever held one of these, now or in the past; never unknown.",
            'ever_held(zone, "north", "hill")',
            (CHOICES, TEXT),
            "yes_no",
            2,
            repeats=True,
        ),
        Function(
            "value_on",
            "value_on(field, date)",
            "The stored value as it was when that day began; blank before there was one.",
            'value_on(plot_length, "2026-01-01") < plot_length',
            (_ANY, DATE),
            "same",
            2,
        ),
    )
}


def nearest(word: str, known: Iterable[str]) -> str:
    """The known word most like this one, or "" where none is near."""
    found = difflib.get_close_matches(word.lower(), sorted(known), n=1, cutoff=0.6)
    return found[0] if found else ""
