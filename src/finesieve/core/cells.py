"""Cells of files that spreadsheets open: none is taken for a formula."""

import re
from typing import Final

__all__ = ["FORMULA_STARTS", "PLAIN_FIGURE", "safe_cell"]

FORMULA_STARTS: Final = ("=", "+", "-", "@", "\t", "\r", "\n", "＝", "＋", "－", "＠")
"""What a cell that a spreadsheet would work out begins with."""
PLAIN_FIGURE: Final = "[+-]?[0-9]+([.,][0-9]+)?"
"""What begins so and is a figure all the same."""
_FIGURE: Final = re.compile(PLAIN_FIGURE)


def safe_cell(text: str) -> str:
    """A cell that no spreadsheet takes for a formula: what begins like one gets a quote before it."""
    return f"'{text}" if text.startswith(FORMULA_STARTS) and not _FIGURE.fullmatch(text) else text
