"""Files that spreadsheets open, written line by line; no cell is taken for a formula."""

import csv
import io
from collections.abc import Iterable, Iterator
from typing import Final

from finesieve.core.cells import safe_cell

__all__ = ["csv_lines"]

_PIECE: Final = 32_768


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
