"""Formulas made in a table: bands of a number, points for answers. The table writes them; the editor shows them."""

from collections.abc import Sequence
from decimal import Decimal
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.manner import Manner
from finesieve.core.language.tables import (
    Band,
    Bands,
    Points,
    PointsOf,
    bands_from,
    bands_text,
    points_from,
    points_text,
)
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.compute.index import compute_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.define.groups import read_catalogue
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/compute")
_ROWS = 12


def _number(text: str, manner: Manner) -> Decimal | None:
    """A figure as a form reads it; None for what is none."""
    try:
        found = Field(0, "figure", "Figure", "number", 0, manner=manner).parse(text)
    except ValueError:
        return None
    return found if isinstance(found, Decimal) else None


def _of_kind(catalogue: Catalogue, kinds: Sequence[str]) -> tuple[Field, ...]:
    fields = (
        one.as_called for one in catalogue.fields if (one.stores or one.derived) and one.key not in catalogue.broken
    )
    return tuple(one for one in fields if one.value_type.kind in kinds)


def _on(desk: Desk, form: PostedForm, formula: str) -> Response:
    """To the editor, with the formula in it, unsaved."""
    field = whole_number(form.text("of")[:9])
    query = urlencode({"formula": formula, "label": form.text("label")[:120]})
    return RedirectResponse(desk.path(f"compute/{field or 'new'}?{query}"), 303)


@router.get("/bands")
def show_bands(request: Request, desk: DeskHere, formula: str = "", of: int = 0, field: str = "") -> Response:
    """The table of bands, begun anew or read from a formula."""
    found = bands_from(formula) if formula else None
    key = found.key if found else field[:60]
    rows = [(str(one.below) if one.below is not None else "", one.name) for one in found.bands] if found else []
    return _bands(request, desk, key, rows, of, "")


def _bands(
    request: Request, desk: Desk, key: str, rows: list[tuple[str, str]], of: int, message: str, status: int = 200
) -> Response:
    catalogue = read_catalogue(desk.scope)
    rows = rows or [("10", ""), ("25", ""), ("", "")]
    return page(
        request, desk, "office/compute/bands.html", stage="compute", title="Bands", sections=compute_sections(desk, of),
        fields=_of_kind(catalogue, ("number", "money")), key=key, rows=rows, of=of, message=message,
        label=_label(catalogue, of), status=status,
    )  # fmt: skip


def _label(catalogue: Catalogue, of: int) -> str:
    known = catalogue.by_id.get(of)
    return known.label if known is not None else ""


@router.post("/bands")
def write_bands(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Write the formula of the bands; another row, or one less, shows the table again."""
    rows = list(zip(form.texts("below"), form.texts("name"), strict=False))[:_ROWS]
    key, of, action = form.text("key")[:60], whole_number(form.text("of")[:9]) or 0, form.text("action")
    if action == "more" and len(rows) < _ROWS:
        return _bands(request, desk, key, [*rows[:-1], ("", ""), rows[-1] if rows else ("", "")], of, "")
    if action.startswith("less:"):
        gone = whole_number(action[5:7]) or 0
        return _bands(request, desk, key, [one for place, one in enumerate(rows) if place != gone], of, "")
    manner = read_catalogue(desk.scope).manner
    bands = tuple(
        Band(_number(below, manner) if place < len(rows) - 1 else None, name[:200])
        for place, (below, name) in enumerate(rows)
    )
    try:
        if key not in {one.key for one in _of_kind(read_catalogue(desk.scope), ("number", "money"))}:
            raise ValueError("Choose the number that the bands are of.")
        return _on(desk, form, bands_text(Bands(key, bands)))
    except ValueError as problem:
        return _bands(request, desk, key, rows, of, str(problem), 422)


@router.get("/points")
def show_points(request: Request, desk: DeskHere, formula: str = "", of: int = 0) -> Response:
    """The table of points, begun anew or read from a formula."""
    found = points_from(formula) if formula else None
    given = {(one.key, value): str(points) for one in (found.parts if found else ()) for value, points in one.points}
    return _points(request, desk, given, of, "")


def _points(
    request: Request, desk: Desk, given: dict[tuple[str, str], str], of: int, message: str, status: int = 200
) -> Response:
    catalogue = read_catalogue(desk.scope)
    fields = [one for one in _of_kind(catalogue, ("choice", "yes_no")) if one.about == PERSON]
    return page(
        request, desk, "office/compute/points.html", stage="compute", title="Points",
        sections=compute_sections(desk, of), fields=fields, given=given, of=of, message=message,
        label=_label(catalogue, of), pairs_of=_pairs_of, status=status,
    )  # fmt: skip


def _pairs_of(one: Field) -> list[tuple[str, str]]:
    """The answers that a field can have, as stored and as people read them."""
    type_ = one.value_type
    return [("yes", "yes")] if type_.kind == "yes_no" else list(zip(type_.options, type_.words, strict=True))


@router.post("/points")
def write_points(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Write the formula of the points."""
    catalogue, of = read_catalogue(desk.scope), whole_number(form.text("of")[:9]) or 0
    given: dict[tuple[str, str], str] = {}
    parts, wrong = [], ""
    for one in _of_kind(catalogue, ("choice", "yes_no")):
        yes_no = one.value_type.kind == "yes_no"
        values = ("yes",) if yes_no else one.value_type.options
        chosen = []
        for place, value in enumerate(values):
            typed = form.text(f"p_{one.key}_{place}").strip()
            if typed:
                given[one.key, value] = typed
                points = _number(typed, catalogue.manner)
                wrong = wrong or ("" if points is not None else f"“{typed[:20]}” is no number.")
                chosen.append((value, points or Decimal(0)))
        if chosen:
            parts.append(PointsOf(one.key, tuple(chosen), yes_no))
    try:
        if wrong:
            raise ValueError(wrong)
        return _on(desk, form, points_text(Points(tuple(parts))))
    except ValueError as problem:
        return _points(request, desk, given, of, str(problem), 422)
