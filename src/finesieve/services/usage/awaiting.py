"""House values that are used and have no value yet."""

from collections.abc import Iterable

from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.language.placeholders import expressions_in
from finesieve.services.kernel.scope import Unit

__all__ = ["awaited_in"]


def awaited_in(
    unit: Unit, expressions: Iterable[str], texts: Iterable[str] = (), about: str = PERSON
) -> tuple[Field, ...]:
    """The house values that expressions, or the placeholders of texts, name, and that await their first value."""
    named: set[str] = set()
    for expression in (*expressions, *(part for text in texts for part in expressions_in(text))):
        typed = unit.catalogue.check(expression, about=about).typed if expression else None
        named |= typed.house if typed else frozenset()
    fields = unit.catalogue.stored_about(HOUSE) if named else ()
    return tuple(field for field in fields if field.key in named and unit.moment.house.get(field.key) is None)
