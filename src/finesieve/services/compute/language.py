"""What can be written in an expression, where it stands."""

from finesieve.core.fields.about import PERSON
from finesieve.core.forms.definition import Form
from finesieve.core.forms.prepare import form_world, section_world
from finesieve.core.language.reference import Word, words_of
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.scope import Scope

__all__ = ["words_here"]


def words_here(scope: Scope, about: str = PERSON, form_id: int = 0, section_id: str = "") -> tuple[Word, ...]:
    """The words in reach of an expression about a thing; or in a form, in one of its sections. Raises NotFound."""
    with scope.reading("reader") as unit:
        catalogue = unit.known
        if not form_id:
            known = {PERSON, "order", "level", "house", *(one.about for one in catalogue.record_types)}
            return tuple(words_of(catalogue.world(about if about in known else PERSON)))
        document = Form.model_validate(form_of(unit, form_id).draft)
        world, section = form_world(document, catalogue), document.section(section_id)
        return tuple(words_of(section_world(world, section) if section else world))
