"""Sentences with values in them that can still be put into another language."""

from typing import Self

__all__ = ["Phrase", "asks", "phrase"]


class Phrase(str):
    """A sentence that remembers how it was made: the template and what stands in its places."""

    template: str
    parts: dict[str, str]

    def __new__(cls, template: str, parts: dict[str, str]) -> Self:
        made = super().__new__(cls, template.format(**parts))
        made.template, made.parts = template, parts
        return made

    def said_as(self, template: str) -> str:
        """The same by another template; the sentence itself where that has places which are not there."""
        try:
            return template.format(**self.parts)
        except (KeyError, IndexError, ValueError):
            return str(self)


def phrase(template: str, **parts: str) -> Phrase:
    """A sentence of a template: `phrase("Choose at most {high}.", high="3")`."""
    return Phrase(template, parts)


def asks(error: ValueError) -> bool:
    """Whether an error says what to write instead, and is not merely the failing of a reading that was tried."""
    return bool(error.args) and isinstance(error.args[0], Phrase)
