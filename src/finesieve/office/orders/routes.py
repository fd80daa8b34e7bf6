"""Orders: the list, one order, what becomes of it, and refunds."""

from collections.abc import Mapping
from typing import Final, get_args
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import RedirectResponse, Response, StreamingResponse

from finesieve.core.commerce.facts import STATES
from finesieve.core.errors import InvalidInput
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, page
from finesieve.office.shared.rules import RuleEditor, posted_rule, stored_rule
from finesieve.office.shared.sentences import words_about_orders
from finesieve.services.commerce.by_hand import customer_name
from finesieve.services.commerce.orders import (
    OrderListing,
    Sort,
    list_orders,
    move_order,
    orders_as_csv,
    read_order,
    refund_pieces,
    set_order_values,
    settle_due,
)
from finesieve.services.commerce.papers import read_paper
from finesieve.services.define.groups import read_catalogue
from finesieve.web.papers import paper_page, paper_pdf
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/orders")
_DOES: Final = {"packed": "Packed", "sent": "Sent", "placed": "Back to placed", "cancelled": "Cancel the order"}


def _sections(desk: Desk, state: str = "") -> list[Section]:
    states = [Entry(words, desk.path(f"orders?state={key}"), active=key == state) for key, words in STATES.items()]
    return [
        Section("people", [Entry("Everybody", desk.path("people"))]),
        Section("orders", [Entry("All orders", desk.path("orders"), active=not state), *states]),
    ]


def _listing(request: Request, desk: Desk) -> tuple[OrderListing, RuleEditor]:
    """How the list is looked at, and the editor of its filter."""
    given = PostedForm([(name, text.replace("\x00", "")) for name, text in request.query_params.multi_items()])
    words = words_about_orders(read_catalogue(desk.scope))
    rule = posted_rule(given, "where", "Filter", words)
    if "where" in given and "where_clauses" not in given and not given.text("as_text"):
        rule = stored_rule("where", "Filter", given.text("where"), words, as_text=False)
    if given.text("action") == "flip:where":
        rule = rule.flipped()
    state = given.text("state") if given.text("state") in STATES else ""
    sort: Sort = next((one for one in get_args(Sort) if one == given.text("sort")), "newest")
    return OrderListing(state, given.text("q")[:100], rule.text[:4_000], sort), rule


def _query_of(listing: OrderListing, **more: str) -> str:
    parts = {"state": listing.state, "q": listing.search, "where": listing.where, "sort": listing.sort, **more}
    return urlencode({name: text for name, text in parts.items() if text and (name, text) != ("sort", "newest")})


@router.get("")
def show_orders(request: Request, desk: DeskHere, after: str = "") -> Response:
    """Orders, the newest first or in another order."""
    listing, rule = _listing(request, desk)
    found = list_orders(desk.scope, listing, after)
    return page(
        request,
        desk,
        "office/orders/list.html",
        stage="people",
        title="Orders",
        sections=_sections(desk, listing.state),
        found=found,
        listing=listing,
        rule=rule.with_problems(found.problems),
        said=STATES.get(listing.state, ""),
        rest=_query_of(listing),
        panel=request.query_params.get("panel", ""),
        shop=read_catalogue(desk.scope).shop,
    )


@router.get("/all.csv")
def export_orders(request: Request, desk: DeskHere) -> Response:
    """The orders looked at as CSV."""
    headers = {"Content-Disposition": 'attachment; filename="orders.csv"'}
    lines = orders_as_csv(desk.scope, _listing(request, desk)[0])
    return StreamingResponse(lines, media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/new")
def new_order(request: Request, desk: DeskHere, person: int = 0) -> Response:
    """What somebody wants, to be ordered for them; who may not, sees the orders."""
    if not desk.may_correct:
        return RedirectResponse(desk.path("orders"), 303)
    return _new_page(request, desk, person, {}, "")


def _new_page(
    request: Request, desk: Desk, person: int, typed: Mapping[str, str], message: str, status: int = 200
) -> Response:
    return page(
        request, desk, "office/orders/new.html", stage="people", title="New order", sections=_sections(desk),
        shop=read_catalogue(desk.scope).shop, person=person, typed=typed, message=message, status=status,
        name=customer_name(desk.scope, person) if person else "",
    )  # fmt: skip


@router.post("/new")
def begin(request: Request, desk: DeskHere, form: Posted) -> Response:
    """On to the checkout, with what was chosen."""
    person, typed = whole_number(form.text("person")) or 0, form.values("n_")
    lines = [(*name.partition("/")[::2], whole_number(many.strip() or "0")) for name, many in typed.items()]
    if any(many is None or many < 0 for _, _, many in lines):
        return _new_page(request, desk, person, typed, "Write how many, in whole numbers.", 422)
    try:
        wanted = [(product, variant, many or 0) for product, variant, many in lines]
        return RedirectResponse(site_of(request).public_shop.begin_for(desk.scope, wanted, person), 303)
    except InvalidInput as problem:
        return _new_page(request, desk, person, typed, next(iter(problem.messages.values())), 422)


@router.get("/{order_id:int}")
def show_order(request: Request, desk: DeskHere, order_id: int) -> Response:
    """One order."""
    return _order_page(request, desk, order_id, {}, {})


def _order_page(
    request: Request,
    desk: Desk,
    order_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    order = read_order(desk.scope, order_id)
    editing = whole_number(request.query_params.get("edit", "")) or 0
    return page(
        request,
        desk,
        "office/orders/order.html",
        stage="people",
        title=f"Order {order.line.number}",
        sections=_sections(desk, order.line.state),
        order=order,
        does=_DOES,
        typed=typed,
        messages=messages,
        editing=editing,
        status=status,
    )


@router.get("/{order_id:int}/correct")
def correct(request: Request, desk: DeskHere, order_id: int) -> Response:
    """On to the checkout of the order, opened to be corrected; who may not, sees the order."""
    if not desk.may_correct:
        return RedirectResponse(desk.path(f"orders/{order_id}"), 303)
    return RedirectResponse(site_of(request).public_forms.begin_correction(desk.scope, order_id), 303)


@router.get("/{order_id:int}/{paper}.pdf")
def paper_as_pdf(desk: DeskHere, order_id: int, paper: str) -> Response:
    """The invoice (`invoice`) or the packing slip (`packing`) of an order, as PDF."""
    return paper_pdf(read_paper(desk.scope, order_id, paper))


@router.get("/{order_id:int}/{paper}")
def show_paper(request: Request, desk: DeskHere, order_id: int, paper: str) -> Response:
    """The same paper as a page."""
    return paper_page(request, read_paper(desk.scope, order_id, paper))


@router.post("/{order_id:int}/due")
def paid_another_way(desk: DeskHere, order_id: int) -> Response:
    """What a correction has added was paid another way."""
    settle_due(desk.scope, order_id)
    return RedirectResponse(desk.path(f"orders/{order_id}"), 303)


@router.post("/{order_id:int}/state")
def change_state(desk: DeskHere, order_id: int, form: Posted) -> Response:
    """Pack, send or cancel it."""
    move_order(desk.scope, order_id, form.text("state"))
    return RedirectResponse(desk.path(f"orders/{order_id}"), 303)


@router.post("/{order_id:int}/refund")
def refund(request: Request, desk: DeskHere, order_id: int, form: Posted) -> Response:
    """Give pieces of a line back."""
    try:
        refund_pieces(desk.scope, order_id, form.text("line"), whole_number(form.text("pieces")) or 0)
    except InvalidInput as problem:
        words = next(iter(problem.messages.values()))
        return _order_page(request, desk, order_id, {}, {f"refund_{form.text('line')}": words}, 422)
    return RedirectResponse(desk.path(f"orders/{order_id}"), 303)


@router.post("/{order_id:int}")
def save_values(request: Request, desk: DeskHere, order_id: int, form: Posted) -> Response:
    """Correct what is kept of the order."""
    typed = form.values("v_")
    try:
        set_order_values(desk.scope, order_id, typed)
    except InvalidInput as problem:
        return _order_page(request, desk, order_id, typed, problem.messages, 422)
    return RedirectResponse(desk.path(f"orders/{order_id}"), 303)
