"""A posted form, read once and safe to use."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Final

from fastapi import Depends, Request
from starlette.exceptions import HTTPException

from finesieve.core.errors import InvalidInput

__all__ = ["Posted", "PostedForm", "posted", "whole_number"]

MOST_INPUTS: Final = 2_000


def whole_number(text: str) -> int | None:
    """A whole number written in plain digits, or None: other scripts' digits and ² are no ids."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 15 else None


class PostedForm:
    """The inputs of a posted form: texts by name, each possibly several times."""

    def __init__(self, pairs: Sequence[tuple[str, str]]) -> None:
        self._pairs = tuple(pairs)

    def one(self, name: str, default: str = "") -> str:
        """The last text of this name."""
        found = [value for key, value in self._pairs if key == name]
        return found[-1] if found else default

    def all(self, name: str) -> list[str]:
        """All texts of this name, in order."""
        return [value for key, value in self._pairs if key == name]

    def number(self, name: str) -> int:
        """A whole number. Raises InvalidInput where it is none."""
        number = whole_number(self.one(name))
        if number is None:
            raise InvalidInput({name: "A number is missing here; load the page again."})
        return number

    @property
    def data(self) -> Mapping[str, str]:
        """The last text of every name."""
        return dict(self._pairs)

    def __contains__(self, name: str) -> bool:
        return any(key == name for key, _ in self._pairs)


async def posted(request: Request) -> PostedForm:
    """Read the form of a request. Refuses files, and what no text can hold, with a 4xx."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind not in ("application/x-www-form-urlencoded", "multipart/form-data", ""):
        raise HTTPException(415, "Send this as a form.")
    form = await request.form(max_fields=MOST_INPUTS, max_files=0)
    pairs = []
    for name, value in form.multi_items():
        if not isinstance(value, str):
            raise HTTPException(422, "No file is asked for here.")
        if "\x00" in value or "\x00" in name or any("\ud800" <= sign <= "\udfff" for sign in value + name):
            raise HTTPException(422, "This holds a character that cannot be kept; type it anew.")
        pairs.append((name, value.replace("\r\n", "\n")))
    return PostedForm(pairs)


Posted = Annotated[PostedForm, Depends(posted)]
