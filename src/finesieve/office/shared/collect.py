"""The Index of the stage Collect: forms, chat scripts, the library of checks."""

from typing import Final

from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section
from finesieve.services.chat.scripts import list_scripts
from finesieve.services.define.named_checks import list_checks
from finesieve.services.forms.cases import list_cases
from finesieve.services.forms.forms import list_forms

__all__ = ["OFFERED_LANGUAGES", "collect_sections"]

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
"""The languages that forms and chats can be offered in, each by its own name."""


def collect_sections(desk: Desk, active: int = 0, *, library: bool = False, script: int = 0) -> list[Section]:
    """The forms, the chat scripts, the checks of the library, and the cases of the form in view."""
    forms = [
        Entry(form.title, desk.path(f"collect/{form.id}"), _state(form.published, form.unpublished), form.id == active)
        for form in list_forms(desk.scope)
    ]
    scripts: dict[str, list[Entry]] = {"": []}
    for one in sorted(list_scripts(desk.scope), key=lambda one: one.group.casefold()):
        state, here = _state(one.published, one.unpublished), desk.path(f"collect/chat/{one.id}")
        scripts.setdefault(one.group, []).append(Entry(one.title, here, state, one.id == script))
    checks = Entry("Checks", desk.path("collect/checks"), str(len(list_checks(desk.scope)) or ""), library)
    sections = [
        Section("forms", forms, desk.path("collect/new"), "New form", empty="No form yet"),
        Section(
            "chat", scripts.pop(""), desk.path("collect/chat/new"), "New chat script",
            empty="" if scripts else "No script yet",
        ),
        *(Section(f"chat: {group}", entries) for group, entries in scripts.items()),
        Section("library", [checks]),
    ]  # fmt: skip
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
