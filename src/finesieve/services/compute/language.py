"""What can be written in an expression, where it stands."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import partial

from finesieve.core.fields.about import PERSON
from finesieve.core.forms.definition import Form
from finesieve.core.forms.prepare import form_world, section_about, section_world
from finesieve.core.language.placeholders import fill, placeholder_problems
from finesieve.core.language.reference import Word, words_of
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.scope import Scope
from finesieve.services.values.value_lines import person_name
from finesieve.services.values.writing import row_of
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import stored_row

__all__ = ["TextAsRead", "text_as_read", "words_here"]


@dataclass(frozen=True, slots=True)
class TextAsRead:
    """A text with its placeholders filled as one person reads it; what is wrong with it, in one sentence."""

    person: str
    text: str
    problem: str = ""


def text_as_read(scope: Scope, text: str, who: str = "") -> TextAsRead:
    """A text as somebody would read it: the first whom the words find, or the newest person; of nobody, blanks.

    What the one who asks may not see stays blank.
    """
    with scope.reading("reader") as unit:
        found = page_of_people(unit.session, unit.definitions, unit.moment, [], search=who, limit=1)
        if not found and who:
            found = page_of_people(unit.session, unit.definitions, unit.moment, [], limit=1)
        row: Mapping[str, Value] = {}
        if found:
            stored = stored_row(unit.session, unit.definitions, PERSON, found[0].id) or {}
            row = row_of(unit, PERSON, found[0].id, stored)
        problems = placeholder_problems(text, unit.visible.check)
        filled = fill(text, unit.visible.check, row, unit.moment, partial(show_typed, unit.visible))
        return TextAsRead(person_name(row) if found else "", filled, problems[0].message if problems else "")


def words_here(scope: Scope, about: str = PERSON, form_id: int = 0, section_id: str = "") -> tuple[Word, ...]:
    """The words in reach of an expression about a thing; or in a form, in one of its sections. Raises NotFound."""
    with scope.reading("reader") as unit:
        catalogue = unit.visible
        if not form_id:
            known = {PERSON, "order", "level", "house", *(one.about for one in catalogue.record_types)}
            here = about if about in known else PERSON
            return _with_labels(words_of(catalogue.world(here)), catalogue, here)
        document = Form.model_validate(form_of(unit, form_id).draft)
        world, section = form_world(document, catalogue), document.section(section_id)
        here = section_about(section) if section else PERSON
        return _with_labels(words_of(section_world(world, section) if section else world), catalogue, here)


def _with_labels(words: Iterable[Word], catalogue: Catalogue, about: str) -> tuple[Word, ...]:
    """The words, those of fields with their labels before the help, and what stands in for a blank after it."""
    fields = {**catalogue.keys_of(PERSON), **catalogue.keys_of(about)}
    house = {f"house.{key}": field for key, field in catalogue.keys_of("house").items()}
    found = []
    for word in words:
        field = house.get(word.text) or fields.get(word.text.removeprefix("person.").removeprefix("form."))
        if field is not None and word.kind in ("field", "house"):
            fallback = field.settings.fallback
            blank = f"; a blank reads “{fallback}”" if fallback else ""
            word = replace(word, help=f"{field.label}: {word.help}{blank}")  # noqa: PLW2901 - the same word, said better
        found.append(word)
    return tuple(found)
