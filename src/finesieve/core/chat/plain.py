"""What is said on a plain text channel: buttons as numbers, pictures as links, long texts in parts."""

from collections.abc import Mapping, Sequence
from typing import Any, Final

from finesieve.core.chat.replies import Offer

__all__ = ["as_texts", "in_parts"]

_MOST: Final = 320
"""Characters of one message; two of the usual length."""


def as_texts(text: str, more: Mapping[str, Any], offers: Sequence[Offer] = ()) -> tuple[str, ...]:
    """A message as it is sent: what goes with it below its words, the replies numbered, in as many parts as needed."""
    lines = [text] if text else []
    lines += [f"{label}: {value}" for label, value in more.get("answers", ())]
    if more.get("picture"):
        lines.append(f"[{more.get('shows') or 'picture'}]")
    if more.get("link"):
        lines.append(f"{more['link'][0]}: {more['link'][1]}")
    for number, one in enumerate(offers, 1):
        lines.append(f"{number} {one.label}" if one.kind == "reply" else f"{one.label}: {one.target}")
    return in_parts("\n".join(lines))


def in_parts(text: str) -> tuple[str, ...]:
    """A long text in parts, cut where a line, a sentence or a word ends."""
    parts = []
    rest = text.strip()
    while len(rest) > _MOST:
        window = rest[:_MOST]
        cut = max(window.rfind("\n"), window.rfind(". ") + 1, 0)
        cut = cut if cut > _MOST // 3 else window.rfind(" ")
        cut = cut if cut > 0 else _MOST
        parts.append(rest[:cut].strip())
        rest = rest[cut:].strip()
    return (*parts, rest) if rest else tuple(parts)
