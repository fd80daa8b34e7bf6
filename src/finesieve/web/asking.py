"""A question as it stands on a page: what the templates of the widgets draw it by."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from markupsafe import Markup, escape

from finesieve.core.forms.outcome import QuestionOutcome

__all__ = ["Asked", "asked_question"]


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
