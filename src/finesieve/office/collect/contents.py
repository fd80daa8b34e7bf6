"""The Index of Collect: its forms, the library of checks, and what the pages of one form share."""

from dataclasses import dataclass
from typing import Final

from finesieve.core.forms.definition import Form
from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section
from finesieve.services.define.named_checks import list_checks
from finesieve.services.forms.cases import list_cases
from finesieve.services.forms.forms import list_forms

__all__ = ["OFFERED_LANGUAGES", "FormPage", "index", "pages_of"]

OFFERED_LANGUAGES: Final[dict[str, str]] = {
    "en": "English",
    "cs": "čeština",
    "da": "dansk",
    "de": "Deutsch",
    "es": "español",
    "fi": "suomi",
    "fr": "français",
    "it": "italiano",
    "nl": "Nederlands",
    "nb": "norsk",
    "pl": "polski",
    "pt": "português",
    "sv": "svenska",
    "tr": "Türkçe",
    "uk": "українська",
}
"""The languages that a form can be offered in, each by its own name."""


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


def index(desk: Desk, active: int = 0, *, library: bool = False) -> list[Section]:
    """The forms, the checks of the library, and the cases of the form in view."""
    forms = [
        Entry(form.title, desk.path(f"collect/{form.id}"), _state(form.published, form.unpublished), form.id == active)
        for form in list_forms(desk.scope)
    ]
    checks = Entry("Checks", desk.path("collect/checks"), str(len(list_checks(desk.scope)) or ""), library)
    sections = [
        Section("forms", forms, desk.path("collect/new"), "New form", empty="No form yet"),
        Section("library", [checks]),
    ]
    if active:
        cases = [
            Entry(case.name, desk.path(f"collect/{active}/rehearse?case={case.id}"), "")
            for case in list_cases(desk.scope, active)
        ]
        sections.append(
            Section(
                "cases of this form", cases, desk.path(f"collect/{active}/rehearse"), "Rehearse", empty="None kept yet"
            )
        )
    return sections


def _state(published: int, unpublished: bool) -> str:
    if not published:
        return "draft"
    return f"v{published} + draft" if unpublished else f"v{published}"
