"""A posted form, read once and safe to use."""

from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Final, TypeVar

from fastapi import Depends, Request
from starlette.exceptions import HTTPException

from finesieve.core.errors import InvalidInput
from finesieve.core.values import keepable, whole_number

__all__ = ["Posted", "PostedForm", "posted", "takes_files", "whole_number"]

MOST_INPUTS: Final = 6_000
MOST_FILES: Final = 20
MOST_BYTES: Final = 1_000_000
_Route = TypeVar("_Route", bound=Callable[..., object])


class PostedForm:
    """The inputs of a posted form: texts by name, each possibly several times; and files, where they are taken."""

    def __init__(self, pairs: Sequence[tuple[str, str]], files: Mapping[str, tuple[str, bytes]] | None = None) -> None:
        self._pairs = tuple(pairs)
        self.files = dict(files or {})

    def lists(self, prefix: str = "") -> dict[str, list[str]]:
        """All texts of the names that begin so, by the rest of the name."""
        found: dict[str, list[str]] = {}
        for name, value in self._pairs:
            if name.startswith(prefix):
                found.setdefault(name[len(prefix) :], []).append(value)
        return found

    def values(self, prefix: str) -> dict[str, str]:
        """One text a name: several ticks of one name are joined, a line each."""
        return {name: "\n".join(text for text in texts if text) for name, texts in self.lists(prefix).items()}

    def text(self, name: str, default: str = "") -> str:
        """The last text of this name."""
        found = [value for key, value in self._pairs if key == name]
        return found[-1] if found else default

    def texts(self, name: str) -> list[str]:
        """All texts of this name, in order."""
        return [value for key, value in self._pairs if key == name]

    def number(self, name: str) -> int:
        """A whole number. Raises InvalidInput where it is none."""
        number = whole_number(self.text(name))
        if number is None:
            raise InvalidInput({name: "A number is missing here; load the page again."})
        return number

    @property
    def was(self) -> dict[str, str]:
        """What the page had shown in its inputs, by name; the inputs say it in `was_…`."""
        return self.values("was_")

    def changed(self) -> dict[str, str]:
        """The last text of every input that the page had shown otherwise."""
        shown = self.was
        return {name: text for name, text in self.data.items() if shown.get(name) != text}

    @property
    def data(self) -> Mapping[str, str]:
        """The last text of every name."""
        return dict(self._pairs)

    def __contains__(self, name: str) -> bool:
        return any(key == name for key, _ in self._pairs)


def takes_files(route: _Route) -> _Route:
    """Mark a route that takes files; everywhere else one is refused."""
    route.takes_files = True  # type: ignore[attr-defined]  # a mark on a function
    return route


async def posted(request: Request) -> PostedForm:
    """Read the form of a request. Refuses files that are not asked for, too much, and what no text can hold."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind not in ("application/x-www-form-urlencoded", "multipart/form-data", ""):
        raise HTTPException(415, "Send this as a form.")
    takes = getattr(getattr(request.scope.get("route"), "endpoint", None), "takes_files", False)
    with_files = takes and kind == "multipart/form-data"
    if not with_files and (whole_number(request.headers.get("content-length", "0")) or 0) > MOST_BYTES:
        raise HTTPException(413, "This is too much at once.")
    pairs: list[tuple[str, str]] = []
    files: dict[str, tuple[str, bytes]] = {}
    async with request.form(max_fields=MOST_INPUTS, max_files=MOST_FILES if takes else 1) as form:
        for name, value in form.multi_items():
            if isinstance(value, str):
                pairs.append((_sound(name), _sound(value).replace("\r\n", "\n")))
            elif not takes:
                raise HTTPException(422, "No file is asked for here.")
            elif value.filename:
                files[_sound(name)] = (_sound(value.filename), await value.read())
    if sum(len(name) + len(value) for name, value in pairs) > MOST_BYTES:
        raise HTTPException(413, "This is too much at once.")
    return PostedForm(pairs, files)


def _sound(text: str) -> str:
    if not keepable(text):
        raise HTTPException(422, "This holds a character that cannot be kept; type it anew.")
    return text


Posted = Annotated[PostedForm, Depends(posted)]
