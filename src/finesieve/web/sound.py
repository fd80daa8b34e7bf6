"""Addresses that a text may lead to; what else a text may hold is no link."""

from urllib.parse import urlsplit

__all__ = ["sound_address", "sound_link"]


def sound_link(text: str, kind: str = "link") -> str:
    """An address that a reply may open, ring or write to; "" for one that may not be."""
    plain = text.strip()
    if kind == "call":
        plain = "tel:" + "".join(sign for sign in plain.removeprefix("tel:") if sign.isdigit() or sign == "+")
        return plain if plain != "tel:" else ""
    if kind == "write" and "@" in plain:
        return f"mailto:{plain.removeprefix('mailto:')}" if not any(sign in plain for sign in '\r\n<>" ') else ""
    return sound_address(plain) if kind == "link" else ""


def sound_address(text: str) -> str:
    """An address that a button may lead to: one of ours, of the web, to write or to ring; "" for any other."""
    text = text.strip()
    if text.startswith("/") and not text.startswith(("//", "/\\")):
        return text
    try:
        parts = urlsplit(text)
    except ValueError:
        return ""
    return text if (parts.scheme in ("http", "https") and parts.netloc) or parts.scheme in ("mailto", "tel") else ""
