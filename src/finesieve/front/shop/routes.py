"""The shop's pages. The cart's key stays in a cookie; nothing else is known of who looks."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Final
from urllib.parse import quote

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.services.commerce.carts import CartView
from finesieve.web.addresses import address_of
from finesieve.web.carts import cart_cookie, cart_of_browser
from finesieve.web.languages import accepted_languages
from finesieve.web.papers import paper_pdf
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/shop/{workspace}")
_DAYS = 30


def _say(request: Request) -> Wording:
    """The words of the page, in the language wished for."""
    wished = request.query_params.get("lang", "")[:3]
    return wording_without_form(
        *((wished,) if wished else accepted_languages(request.headers.get("accept-language", "")))
    )


def _look(request: Request, workspace: str) -> CartView:
    return site_of(request).public_shop.look(workspace, cart_of_browser(request, workspace))


@router.get("")
def show_shop(request: Request, workspace: str) -> Response:
    """All that is sold."""
    return _page(request, workspace, "shop")


def _page(
    request: Request, workspace: str, template: str, messages: Mapping[str, str] | None = None, status: int = 200
) -> Response:
    context = {
        "opened": _look(request, workspace), "workspace": workspace, "messages": messages or {}, "say": _say(request),
    }  # fmt: skip
    return render(request, f"front/shop/{template}.html", context, status)


@router.post("/cart")
def change_cart(request: Request, workspace: str, form: Posted) -> Response:
    """Put something into the cart, or change how many."""
    shop, key = site_of(request).public_shop, cart_of_browser(request, workspace)
    try:
        quantity = whole_number(form.text("quantity"))
        if quantity is None or quantity < 0:
            raise InvalidInput({"quantity": "Write how many, in whole numbers."})
        kept = shop.put_in(
            workspace,
            key,
            form.text("product"),
            form.text("variant"),
            quantity,
            more=form.text("what") == "add",
            came_from=address_of(request),
        )
    except InvalidInput as problem:
        if form.text("what") == "add":
            return _page(request, workspace, "shop", {form.text("product"): _first(problem)}, 422)
        return _page(request, workspace, "cart", problem.messages, 422)
    answer = RedirectResponse(f"/shop/{workspace}/cart", 303)
    answer.set_cookie(
        cart_cookie(workspace), kept, max_age=_DAYS * 86_400, path="/", httponly=True, samesite="lax",
        secure=request.url.scheme == "https",
    )  # fmt: skip
    return answer


def _first(problem: InvalidInput) -> str:
    return next(iter(problem.messages.values()))


@router.get("/cart")
def show_cart(request: Request, workspace: str) -> Response:
    """What is in the cart, and what it comes to before the checkout."""
    return _page(request, workspace, "cart")


@router.post("/checkout")
def check_out(request: Request, workspace: str) -> Response:
    """On to the form of the checkout, with the cart."""
    opened = _look(request, workspace)
    if not (opened.cart.lines and opened.checkout):
        return RedirectResponse(f"/shop/{workspace}/cart", 303)
    return RedirectResponse(f"/join/{workspace}/{opened.checkout}?cart={quote(opened.key)}", 303)


@router.get("/order/{token}")
def show_order(request: Request, workspace: str, token: str) -> Response:
    """An order: to be paid, or its receipt."""
    house, language, order = site_of(request).public_shop.order(workspace, token)
    context = {
        "opened": _Head(house, language), "workspace": workspace, "order": order, "token": token, "say": _say(request),
        "asked": "asked" in request.query_params, "changed": "changed" in request.query_params,
        "may_change": site_of(request).public_shop.answers(workspace, token) is not None,
    }  # fmt: skip
    return render(request, "front/shop/order.html", context)


@router.get("/order/{token}/answers")
def show_answers(request: Request, workspace: str, token: str) -> Response:
    """The answers that may be changed until the order ships."""
    return _answers_page(request, workspace, token, None)


def _answers_page(
    request: Request,
    workspace: str,
    token: str,
    typed: Mapping[str, str] | None,
    messages: Mapping[str, str] | None = None,
    status: int = 200,
) -> Response:
    shop = site_of(request).public_shop
    house, language, _ = shop.order(workspace, token)
    found = shop.answers(workspace, token, typed)
    if found is None:
        raise NotFound("Nothing about this order can be changed (any more).")
    context = {
        "opened": _Head(house, language), "found": found, "here": f"/shop/{workspace}/order/{token}",
        "messages": messages or {}, "say": _say(request),
    }  # fmt: skip
    return render(request, "front/shop/answers.html", context, status)


@router.post("/order/{token}/answers")
def save_answers(request: Request, workspace: str, token: str, form: Posted) -> Response:
    """Change them."""
    typed = form.values("a_")
    try:
        site_of(request).public_shop.change_answers(workspace, token, typed, address_of(request))
    except InvalidInput as problem:
        return _answers_page(request, workspace, token, typed, problem.messages, 422)
    return RedirectResponse(f"/shop/{workspace}/order/{token}?changed=1", 303)


@router.get("/order/{token}/invoice.pdf")
def show_invoice(request: Request, workspace: str, token: str) -> Response:
    """The invoice of an order, as PDF."""
    return paper_pdf(site_of(request).public_shop.invoice(workspace, token, address_of(request)))


@router.post("/order/{token}/pay")
def pay(request: Request, workspace: str, token: str, form: Posted) -> Response:
    """What the payer says on the page of the stand-in for payment, and how well it answers; twice counts once."""
    shop, said = site_of(request).public_shop, form.text("answer")
    accepted, here = said in ("accept", "slow", "silent", "twice"), f"/shop/{workspace}/order/{token}"
    shop.pay(workspace, token, accepted=accepted, told=said != "silent", late=_SLOW if said == "slow" else _AT_ONCE)
    if said == "twice":
        shop.pay(workspace, token, accepted=True)
    if said == "silent":
        context = {"opened": _look(request, workspace), "here": here, "say": _say(request)}
        return render(request, "front/shop/silent.html", context, 504)
    answer = RedirectResponse(here + ("?asked=1" if accepted else ""), 303)
    if accepted:
        answer.delete_cookie(cart_cookie(workspace), path="/")
    return answer


_SLOW: Final = timedelta(seconds=8)
_AT_ONCE: Final = timedelta(0)


class _Head:
    """What the layout needs of a page."""

    def __init__(self, house: str, language: str) -> None:
        self.house, self.language = house, language
