"""A question as it stands on a page: what the templates of the widgets draw it by."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from threading import Lock
from typing import Final

from markupsafe import Markup, escape

from finesieve.core.fields.definition import Field
from finesieve.core.forms.outcome import QuestionOutcome

__all__ = ["Asked", "Drawing", "Drawn", "asked_question"]


@dataclass(frozen=True, slots=True)
class Asked:
    """A question with its inputs' names, the classes of its box, and the ids of what describes it.

    `message` is what is wrong, "" for nothing; `say` puts the page's own words into its language; `focus` is for the
    one where typing begins, `bare` leaves the wording to screen readers.
    `attributes` are those of its input that tell of all this.
    """

    outcome: QuestionOutcome
    message: str
    say: Callable[[str], str]
    name: str
    focus: bool
    id: str
    input: str
    css: str
    described: str
    bare: bool
    attributes: Markup


def asked_question(outcome: QuestionOutcome, message: str, say: Callable[[str], str], name: str, focus: bool) -> Asked:
    """The question by the name of its inputs."""
    number = name.replace(".", "-")
    style, width = outcome.field.settings.style_class, outcome.width
    css = ("question", "wrong" if message else "", f"w-{width}" if width != "full" else "", style)
    described = " ".join(_described(outcome, message, number))
    return Asked(
        outcome,
        message,
        say,
        name,
        focus,
        number,
        f"a_{name}",
        " ".join(part for part in css if part),
        described,
        outcome.question.bare and bool(outcome.sample),
        Markup("".join(_attributes(outcome, message, described, focus))),  # noqa: S704 - each part is escaped
    )


def _described(outcome: QuestionOutcome, message: str, number: str) -> Iterator[str]:
    if message:
        yield f"{number}-problem"
    if outcome.help:
        yield f"{number}-help"


def _attributes(outcome: QuestionOutcome, message: str, described: str, focus: bool) -> Iterator[str]:
    """Written here and not in the templates: a page has dozens of questions."""
    if focus:
        yield " autofocus"
    if described:
        yield f' aria-describedby="{escape(described)}"'
    if message:
        yield ' aria-invalid="true"'
    if outcome.required:
        yield ' aria-required="true"'
    if outcome.sample:
        yield f' placeholder="{escape(outcome.sample)}"'


_ALIKE: Final = ("line", "lines", "yes_no", "choice", "choices", "agreement")
"""The widgets that draw the same for the same question, answer and words; the others know more than that."""
_WORDS: Final = ("optional", "Yes", "No", "Choose …")
_MOST_DRAWN: Final = 4_000
_LONGEST: Final = 300
_MOST_OFFERED: Final = 12


class Drawing:
    """Draws questions by the widgets of their types, in the words of a page whose figures are in a language."""

    def __init__(self, kept: "Drawn", say: Callable[[str], str], language: str) -> None:
        self._kept, self._say = kept, say
        self._words = (language, *map(say, _WORDS))

    def question(self, one: QuestionOutcome, message: str, name: str, *, focus: bool = False) -> Markup:
        """A question by the name of its inputs, with what is wrong with its answer."""
        field, asked = one.field, one.question
        if (
            field.type.widget not in _ALIKE
            or field.type_key == "day_of_year"
            or len(one.raw) > _LONGEST
            or len(one.offered) > _MOST_OFFERED
        ):
            return self._kept.draw(asked_question(one, message, self._say, name, focus))
        key = (
            id(field), name, message, focus, one.raw, one.required, asked.bare, one.label, one.help, one.sample,
            one.width, self._say(field.unit), self._words,
            *((option.stored_value, option.label) for option in one.offered),
        )  # fmt: skip
        return self._kept.same(key, field) or self._kept.keep(
            key, field, self._kept.draw(asked_question(one, message, self._say, name, focus))
        )


class Drawn:
    """Questions as they were drawn: a round trip changes one answer, and the others are drawn again as they were."""

    def __init__(self, draw: Callable[[Asked], Markup]) -> None:
        self.draw = draw
        self._kept: dict[tuple[object, ...], tuple[Field, Markup]] = {}
        self._lock = Lock()

    def same(self, key: tuple[object, ...], field: Field) -> Markup | None:
        """What was drawn for this key and this very field, or None."""
        found = self._kept.get(key)
        return found[1] if found is not None and found[0] is field else None

    def keep(self, key: tuple[object, ...], field: Field, drawn: Markup) -> Markup:
        """Keep what was drawn; gives it back."""
        with self._lock:
            while len(self._kept) >= _MOST_DRAWN:
                del self._kept[next(iter(self._kept))]
            self._kept[key] = (field, drawn)
        return drawn
