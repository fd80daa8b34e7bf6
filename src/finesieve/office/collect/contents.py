"""What the pages of one form share."""

from dataclasses import dataclass
from typing import Final

from finesieve.core.forms.definition import Form

__all__ = ["FormPage", "pages_of"]


@dataclass(frozen=True, slots=True)
class FormPage:
    """One of the pages of a form."""

    key: str
    name: str
    of_checkout: bool = False
    of_sign_up: bool = False


_PAGES: Final = (
    FormPage("", "Compose"),
    FormPage("plan", "Page plan", of_checkout=True),
    FormPage("asked", "Who is asked"),
    FormPage("answers", "Answers", of_checkout=True),
    FormPage("rehearse", "Rehearse"),
    FormPage("grid", "Grid"),
    FormPage("languages", "Languages"),
    FormPage("share", "Share", of_sign_up=True),
    FormPage("versions", "Versions"),
    FormPage("sent", "Submissions"),
)


def pages_of(form: Form) -> list[FormPage]:
    """The pages about a form; a checkout has more."""
    shown = [one for one in _PAGES if form.channel == "checkout" or not one.of_checkout]
    return [one for one in shown if form.channel == "sign-up" or not one.of_sign_up]
