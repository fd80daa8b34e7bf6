"""A question as it stands on a page: what the templates of the widgets draw it by."""

from collections.abc import Callable
from dataclasses import dataclass

from finesieve.core.forms.outcome import QuestionOutcome

__all__ = ["Asked", "asked_question"]


@dataclass(frozen=True, slots=True)
class Asked:
    """A question with its inputs' names, the classes of its box, and the ids of what describes it.

    `message` is what is wrong, "" for nothing; `say` puts the page's own words into its language; `focus` is for the
    one where typing begins, `bare` leaves the wording to screen readers.
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


def asked_question(outcome: QuestionOutcome, message: str, say: Callable[[str], str], name: str, focus: bool) -> Asked:
    """The question by the name of its inputs."""
    number = name.replace(".", "-")
    style, width = outcome.field.settings.style_class, outcome.width
    css = ("question", "wrong" if message else "", f"w-{width}" if width != "full" else "", style)
    described = (f"{number}-problem" if message else "", f"{number}-help" if outcome.help else "")
    return Asked(
        outcome,
        message,
        say,
        name,
        focus,
        number,
        f"a_{name}",
        " ".join(part for part in css if part),
        " ".join(part for part in described if part),
        outcome.question.bare and bool(outcome.sample),
    )
