"""Blocks of a member page as HTML: Markdown, with what is filled in put there as plain text."""

from collections.abc import Callable, Sequence
from functools import cache
from typing import Final
from urllib.parse import quote

from markdown_it import MarkdownIt
from markupsafe import Markup, escape

from finesieve.core.language.placeholders import Piece
from finesieve.core.pages.reading import ReadBlock
from finesieve.web.sound import sound_address

__all__ = ["block_html"]

_MARK: Final = ("\ue000", "\ue001")
"""Characters that nobody types: between them stands the number of what is filled in."""


@cache
def _markdown() -> MarkdownIt:
    return MarkdownIt("commonmark", {"html": False}).disable("image")


def block_html(block: ReadBlock, filled: Callable[[Piece], Markup] | None = None) -> Markup:
    """The text of a block; `filled` draws what came of a placeholder, plainly where it is not given.

    What is filled in is never read as Markdown, nor as HTML.
    """
    values = [piece for piece in block.text if piece.expression]
    number = iter(range(len(values)))
    text = "".join(
        f"{_MARK[0]}{next(number)}{_MARK[1]}" if piece.expression else _without_marks(piece.text)
        for piece in block.text
    )
    tokens = _markdown().parse(text)
    for token in (one for inline in tokens for one in (inline.children or ()) if one.type == "link_open"):
        token.attrSet("href", sound_address(_with_values(str(token.attrGet("href") or ""), values)) or "#")
    html = _markdown().renderer.render(tokens, _markdown().options, {})
    for place, piece in enumerate(values):
        mark = f"{_MARK[0]}{place}{_MARK[1]}"
        html = html.replace(mark, str(filled(piece) if filled is not None else escape(piece.text)))
    return Markup(html)  # noqa: S704 - made by the renderer, which lets no HTML through, and from escaped values


def _with_values(address: str, values: Sequence[Piece]) -> str:
    """An address with what is filled in; Markdown has written the marks as addresses write them."""
    for place, piece in enumerate(values):
        address = address.replace(quote(f"{_MARK[0]}{place}{_MARK[1]}"), piece.text)
    return address


def _without_marks(text: str) -> str:
    return text.replace(_MARK[0], "").replace(_MARK[1], "")
