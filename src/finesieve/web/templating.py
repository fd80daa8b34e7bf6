"""Jinja: templates lie beside their feature; values are escaped; an undefined name is an error."""

from datetime import date, datetime
from functools import cache
from hashlib import sha256
from pathlib import Path
from typing import Any, Final
from zoneinfo import ZoneInfo

from babel.dates import format_date, format_datetime
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from starlette.requests import Request
from starlette.responses import HTMLResponse

__all__ = ["PACKAGE", "render", "render_text"]

PACKAGE: Final = Path(__file__).parents[1]


@cache
def _environment() -> Environment:
    environment = Environment(
        loader=FileSystemLoader(PACKAGE),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(figure=_figure, day=_day, moment=_moment, percent=_percent, share=_share, plural=_plural)
    environment.globals["asset"] = _asset
    return environment


def _figure(number: int) -> str:
    """12345 → 12,345"""
    return f"{number:,}"


def _day(value: date) -> str:
    return format_date(value, "d MMM y", locale="en_GB")


def _moment(value: datetime, zone: str) -> str:
    """A moment as the clocks of a zone showed it."""
    return format_datetime(value.astimezone(ZoneInfo(zone)), "d MMM y, HH:mm", locale="en_GB")


def _percent(part: int, whole: int) -> str:
    return "–" if not whole else f"{100 * part / whole:.0f} %"


def _share(part: int, whole: int) -> str:
    """A share to one decimal: `7.4 %`, `100 %`."""
    return f"{100 * part / whole:.1f}".removesuffix(".0") + " %"


def _plural(number: int, one: str, many: str) -> str:
    return f"{number:,} {one if number == 1 else many}"


@cache
def _asset(name: str) -> str:
    """The address of a static file, with a mark that changes with its contents."""
    mark = sha256((PACKAGE / "static" / name).read_bytes()).hexdigest()[:10]
    return f"/static/{name}?v={mark}"


def render_text(template: str, context: dict[str, Any]) -> str:
    """A template as text."""
    return _environment().get_template(template).render(context)


def render(request: Request, template: str, context: dict[str, Any], status: int = 200) -> HTMLResponse:
    """A template as an answer; it knows the `request`."""
    return HTMLResponse(render_text(template, {"request": request, **context}), status_code=status)
