"""Where the answers of a checkout show: changes of its draft."""

from collections.abc import Sequence
from typing import Any, get_args

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.forms.definition import Form, Question
from finesieve.core.forms.showing import SHOWN_AT, ShownAt, may_show, usual_places
from finesieve.core.model.catalogue import Catalogue
from finesieve.services.forms.drafting import change_draft, sections_changed
from finesieve.services.kernel.scope import Scope, Unit

__all__ = ["set_shown_at", "shown_at", "tell_of_orders"]


def shown_at(question: Question, catalogue: Catalogue) -> dict[str, bool]:
    """Of each place where an answer can show, whether it does."""
    field = catalogue.by_id.get(question.field_id)
    if field is None:
        return {}
    chosen = usual_places(field.about) if question.shown_at is None else question.shown_at
    return {place: place in chosen for place in SHOWN_AT if may_show(field, place)}


def set_shown_at(
    scope: Scope, form_id: int, revision: int, questions: Sequence[str], places: Sequence[str], *, on: bool
) -> int:
    """Let the answers to these questions show at these places, or not; gives the id for undoing.

    What cannot show at a place is passed over. Raises NotFound for no such place or question.
    """
    if not set(places) <= set(SHOWN_AT):
        raise NotFound("There is no such place.")

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        if not set(questions) <= {one.id for one in form.questions}:
            raise NotFound("There is no such question.")

        def one(item: Any) -> Any:
            if not isinstance(item, Question) or item.id not in questions:
                return item
            now = shown_at(item, unit.catalogue)
            wanted = {place: on if place in places else shows for place, shows in now.items()}
            field = unit.catalogue.by_id.get(item.field_id)
            chosen: tuple[ShownAt, ...] = tuple(place for place in get_args(ShownAt) if wanted.get(place))
            usual = tuple(p for p in usual_places(field.about) if p in now) if field is not None else ()
            return item.model_copy(update={"shown_at": None if set(chosen) == set(usual) else chosen})

        changed = sections_changed(form, lambda part: part.model_copy(update={"items": tuple(map(one, part.items))}))
        return "Changed where answers show", changed

    return change_draft(scope, form_id, revision, change, "none")


def tell_of_orders(scope: Scope, form_id: int, revision: int, address: str) -> int:
    """Let a message about each order go to an address, "" for none; gives the id for undoing. Raises InvalidInput."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        try:
            told = str(unit.catalogue.by_key["email"].parse(address.strip()) or "")
        except ValueError as problem:
            raise InvalidInput({"tell": str(problem)}) from None
        return f"Changed who is told of orders of {form.title}", {"tell": told}

    return change_draft(scope, form_id, revision, change, "")
