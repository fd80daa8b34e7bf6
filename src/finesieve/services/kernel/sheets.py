"""Files that spreadsheets open: the one writer of CSV, which lets no cell be taken for a formula."""

import csv
import io
import re
from collections.abc import Iterable, Iterator
from typing import Final

__all__ = ["csv_lines", "safe_cell"]

_NUMBER: Final = re.compile(r"[+-]?[0-9]+([.,][0-9]+)?")
_STARTS: Final = ("=", "+", "-", "@", "\t", "\r", "\n", "＝", "＋", "－", "＠")
_PIECE: Final = 32_768


def safe_cell(text: str) -> str:
    """A cell that no spreadsheet takes for a formula: what begins like one gets a quote before it."""
    return f"'{text}" if text.startswith(_STARTS) and not _NUMBER.fullmatch(text) else text


def csv_lines(rows: Iterable[Iterable[str]]) -> Iterator[str]:
    """Rows as CSV, in pieces of some thousand characters."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    for row in rows:
        writer.writerow([safe_cell(cell) for cell in row])
        if buffer.tell() > _PIECE:
            yield buffer.getvalue()
            buffer.seek(0)
            buffer.truncate()
    yield buffer.getvalue()
