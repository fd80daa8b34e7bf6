"""Jinja: templates lie beside their feature; values are escaped; an undefined name is an error."""

import re
from collections.abc import Callable, Iterable, Mapping
from contextvars import ContextVar
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from functools import cache, lru_cache
from hashlib import sha256
from pathlib import Path
from typing import Any, Final
from zoneinfo import ZoneInfo

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup, escape
from starlette.requests import Request
from starlette.responses import HTMLResponse

from finesieve.core import limits
from finesieve.core.commerce.bill import BASES
from finesieve.core.fields.built_in import ADDRESSES, address_keys
from finesieve.core.fields.definition import Field
from finesieve.core.fields.families.dates import twice
from finesieve.core.fields.families.places import country_codes, country_names, country_of, regions_of
from finesieve.core.fields.manner import PLAIN, write_day, write_figure, write_moment
from finesieve.core.forms.outcome import QuestionOutcome, RemarkOutcome
from finesieve.core.language.sentence import MEASURES
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.phrases import phrase
from finesieve.core.values import DayOfYear, StoredFile, plain_number
from finesieve.store.reading.kept import is_estimated
from finesieve.web.asking import Asked, Drawing, Drawn
from finesieve.web.sound import sound_link

__all__ = ["PACKAGE", "read_templates", "render", "render_text"]

PACKAGE: Final = Path(__file__).parents[1]
_ADDRESS: Final = re.compile(r"(https?://[^\s<>\"]+[^\s<>\".,;:!?)])")


@cache
def _environment() -> Environment:
    environment = Environment(
        loader=FileSystemLoader(PACKAGE),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        # Otherwise each use of a template looks at its file, and a page uses some of them for every question.
        auto_reload=False,
    )
    environment.filters.update(figure=_figure, day=_day, moment=_moment, percent=_percent, share=_share, plural=_plural)
    environment.filters["as_sentence"] = _as_sentence
    environment.filters["sound_link"] = sound_link
    environment.filters["pairs"] = lambda options: [(option.stored_value, option.label) for option in options]
    environment.filters.update(plain=lambda number: "" if number is None else plain_number(number), links=_links)
    environment.globals.update(asset=_asset, countries=_countries, regions=_regions, phrase=phrase)
    environment.globals.update(autofill=_autofill, menu_entries=_menu)
    # Taken by its name for each question; importing it would compare all that it knows, every time.
    environment.globals["widget_of"] = lru_cache(maxsize=100)(
        lambda name: environment.get_template(f"web/widgets/{name}.html").module
    )
    environment.globals.update(measures=MEASURES, bases=BASES)
    environment.globals.update(
        limits=limits,
        twice=twice,
        estimated=is_estimated,
        draw_question=_draw_question,
        draw_items=_draw_items,
        draw_wish=_draw_wish,
    )
    environment.globals.update(sample_day=lambda field: field.show(DayOfYear(5, 27)))
    return environment


_written_in: ContextVar[str] = ContextVar("written_in", default=PLAIN.language)
"""The language whose figures and dates the page that is being drawn has: that of its workspace."""


def _draw(asked: Asked) -> Markup:
    """A question by the widget of its type."""
    widget: Any = _environment().globals["widget_of"](asked.outcome.field.type.widget)  # type: ignore[operator]
    drawn: Markup = widget.asked(asked)
    return drawn


_drawn: Final = Drawn(_draw)


def _draw_question(
    outcome: QuestionOutcome, message: str, say: Callable[[str], str], name: str, focus: bool = False
) -> Markup:
    return Drawing(_drawn, say, _written_in.get()).question(outcome, message, name, focus=focus)


def _draw_wish(one: QuestionOutcome, message: str, say: Callable[[str], str]) -> Markup:
    """The input for what a locked value should be, beside what it is."""
    words = {"label": say("What should it be?"), "help": "", "sample": "", "bare": False}
    asked = replace(one, raw="", required=True, question=one.question.model_copy(update=words))
    return _draw_question(asked, message, say, f"wish.{one.id}")


def _draw_items(
    items: Iterable[QuestionOutcome | RemarkOutcome],
    messages: Mapping[str, str],
    say: Callable[[str], str],
    first: str,
    asks: bool = False,
    cards: Mapping[str, Any] | None = None,
    files: str = "",
) -> Markup:
    """What shows of a section, one under the other; typing begins at the question `first`.

    What is locked shows as it is kept; with `asks`, a change can be asked for. `cards` say what each level brings,
    `files` is the address below which files that are kept already can be opened, "" where they cannot.
    Not a macro: a page has dozens of questions, and is drawn after each answer.
    """
    words: Any = _environment().get_template("web/question.html").module
    drawing, parts = Drawing(_drawn, say, _written_in.get()), []
    for one in items:
        if isinstance(one, QuestionOutcome) and one.locked:
            parts.append(words.locked_question(one, say, asks, messages.get(one.id, "")))
        if not one.shows:
            continue
        if isinstance(one, RemarkOutcome):
            parts.append(words.remark_words(one.remark))
            continue
        message = messages.get(one.id, "")
        if isinstance(one.stored, StoredFile) and not one.value:
            parts.append(words.kept_file(one, say, files))
        parts.append(Markup('<input type="hidden" name="asked" value="{}">\n').format(one.id))
        if one.field.id == LEVEL_QUESTION:
            parts.append(words.level_question(one, message, say, one.id, cards or {}))
            continue
        parts.append(
            drawing.question(one, message, one.id, focus=one.id == first)
            if one.field.stores
            else words.question_input(one, message, say, one.id)
        )
    return Markup("").join(parts)


def _figure(number: Decimal | int) -> str:
    return write_figure(number, _written_in.get())


def _day(value: date) -> str:
    return write_day(value, _written_in.get())


def _moment(value: datetime, zone: str) -> str:
    """A moment as the clocks of a zone showed it, to the minute."""
    return write_moment(value.astimezone(ZoneInfo(zone)).replace(second=0, microsecond=0), _written_in.get())


def _percent(part: int, whole: int) -> str:
    return "–" if not whole else f"{100 * part / whole:.0f} %"


def _share(part: int, whole: int) -> str:
    """A share to one decimal: `7.4 %`, `100 %`."""
    share = round(Decimal(100 * part) / whole, 1)
    return f"{_figure(int(share) if share == int(share) else share)} %"


def _plural(number: int, one: str, many: str) -> str:
    return f"{_figure(number)} {one if number == 1 else many}"


def _as_sentence(words: str) -> str:
    """Words with a large first letter; the others stay as they are, a pattern or a name among them."""
    return words[:1].upper() + words[1:]


@cache
def _asset(name: str) -> str:
    """The address of a static file, with a mark that changes with its contents."""
    mark = sha256((PACKAGE / "static" / name).read_bytes()).hexdigest()[:10]
    return f"/static/{name}?v={mark}"


@lru_cache(maxsize=32)
def _country_pairs(language: str) -> tuple[tuple[str, str], ...]:
    """All countries by name in a language: (code, name)."""
    pairs = zip(country_codes(), country_names(language), strict=True)
    return tuple(sorted(pairs, key=lambda pair: pair[1]))


def _countries(field: Field) -> tuple[tuple[str, str], ...]:
    """All countries by name, in the language of the house: (code, name)."""
    return _country_pairs(field.manner.language)


def _entries(pairs: Iterable[tuple[str, str]]) -> str:
    return "".join(f'<option value="{escape(value)}">{escape(label)}</option>\n' for value, label in pairs)


_same_entries = lru_cache(maxsize=256)(_entries)
"""Of countries and regions, which are the same on page after page."""


def _menu(pairs: Iterable[tuple[str, str]], chosen: str) -> Markup:
    """The entries of a menu with the chosen one marked."""
    entries = _same_entries(pairs) if isinstance(pairs, tuple) else _entries(pairs)
    mark = f'<option value="{escape(chosen)}"'
    return Markup(entries.replace(f"{mark}>", f"{mark} selected>", 1) if chosen else entries)  # noqa: S704 - escaped above


_AUTOFILL: Final = {
    "first_name": "given-name", "last_name": "family-name", "company": "organization",
    "street": "address-line1", "extra": "address-line2", "town": "address-level2", "region": "address-level1",
    "postcode": "postal-code", "country": "country",
}  # fmt: skip
_PLACES: Final = {
    key: f"{'shipping' if kind == 'delivery' else kind} {_AUTOFILL[line]}"
    for kind in ADDRESSES
    for line, key in address_keys(kind).items()
}


def _autofill(field: Field) -> str:
    """What a browser may fill in by itself: the word of the HTML standard for built-in fields, `off` for others."""
    return _PLACES.get(field.key) or _AUTOFILL.get(field.key) or "off" if field.built_in else "off"


def _regions(field: Field) -> tuple[tuple[str, str], ...]:
    """The regions that a field offers: (code, name)."""
    return regions_of(country_of(field))


def _links(text: str) -> Markup:
    """A text with its web addresses as links; everything else escaped."""
    link = Markup('<a href="{0}" rel="noopener">{0}</a>')
    parts = _ADDRESS.split(text)
    return Markup("").join(link.format(part) if _ADDRESS.fullmatch(part) else escape(part) for part in parts)


def read_templates(*beginnings: str) -> None:
    """Read and compile the templates whose names begin so; others are when they are first wanted."""
    environment = _environment()
    for name in environment.list_templates(extensions=["html"]):
        if name.startswith(beginnings):
            environment.get_template(name)


def render_text(template: str, context: dict[str, Any]) -> str:
    """A template as text, its figures and dates in the way of the workspace that it is a page of."""
    page = context.get("desk") or context.get("opened")
    before = _written_in.set(page.language if page is not None else PLAIN.language)
    try:
        return _environment().get_template(template).render(context)
    finally:
        _written_in.reset(before)


def render(request: Request, template: str, context: dict[str, Any], status: int = 200) -> HTMLResponse:
    """A template as an answer; it knows the `request`."""
    return HTMLResponse(render_text(template, {"request": request, **context}), status_code=status)
