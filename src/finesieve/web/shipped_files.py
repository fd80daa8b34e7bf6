"""The renderer of PDFs, let near nothing but the styles and fonts that ship with the application."""

from pathlib import Path
from typing import Final
from urllib.parse import urlsplit

from weasyprint import HTML  # type: ignore[import-untyped]
from weasyprint.urls import URLFetcher, URLFetcherResponse  # type: ignore[import-untyped]

__all__ = ["ShippedFiles"]

_STATIC: Final = Path(__file__).parents[1] / "static"
_TYPES: Final = {".css": "text/css", ".woff2": "font/woff2"}


class ShippedFiles(URLFetcher):  # type: ignore[misc]  # the library has no types
    """Reads what a page asks for from the static files; nothing else, whatever a text on it says."""

    def fetch(self, url: str, headers: dict[str, str] | None = None) -> URLFetcherResponse:
        """A style or a font. Raises ValueError for anything else."""
        name = urlsplit(url).path.lstrip("/").removeprefix("static/")
        path = (_STATIC / name).resolve()
        if not path.is_relative_to(_STATIC) or path.suffix not in _TYPES or not path.is_file():
            raise ValueError("Nothing but what ships with the application is read here.")
        return URLFetcherResponse(url, path.read_bytes(), {"Content-Type": _TYPES[path.suffix]})

    def pdf_of(self, html: str) -> bytes:
        """A page as PDF."""
        return bytes(HTML(string=html, base_url="shipped:///static/", url_fetcher=self).write_pdf())
