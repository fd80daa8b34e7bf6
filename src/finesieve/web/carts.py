"""The cookie that a browser keeps its cart by."""

from fastapi import Request

__all__ = ["cart_cookie", "cart_of_browser"]


def cart_cookie(workspace: str) -> str:
    """The name of the cookie, of a workspace by its short name."""
    return f"cart_{workspace}"[:80]


def cart_of_browser(request: Request, workspace: str) -> str:
    """The key of the cart that a browser has, "" for none."""
    return request.cookies.get(cart_cookie(workspace), "")[:60]
