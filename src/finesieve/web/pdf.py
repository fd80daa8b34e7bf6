"""A page as a PDF: the same template, by a renderer that reads nothing but what ships with the application."""

import threading
from typing import Final

from finesieve.core.errors import Unavailable

__all__ = ["pdf_of"]

_TURNS: Final = threading.BoundedSemaphore(2)
_WAIT: Final = 5.0


def pdf_of(html: str) -> bytes:
    """A page as PDF. Raises Unavailable where the machine lacks the libraries, or too many are being made."""
    try:
        # It loads libraries of the system, which nothing but papers needs.
        from finesieve.web.shipped_files import ShippedFiles
    except OSError as problem:
        raise Unavailable("PDFs cannot be made here: Pango is not installed. The page can be printed.") from problem
    if not _TURNS.acquire(timeout=_WAIT):
        raise Unavailable("Too many papers are being made at the moment. Try again.")
    try:
        return ShippedFiles().pdf_of(html)
    finally:
        _TURNS.release()
