"""How a conversation names the records that it is about: those of the person, and new ones."""

from collections.abc import Mapping
from typing import Any, Final

from finesieve.core.chat.journal import Made
from finesieve.core.chat.prepare import PreparedScript

__all__ = ["NEW", "collection_of", "is_new", "kind_of", "new_name", "title_of"]

NEW: Final = "new"
"""Before the number of a record that is not there yet."""


def collection_of(record: str) -> str:
    """The collection that a record is named by."""
    return record.partition(":")[0]


def is_new(record: str) -> bool:
    """Whether the name of a record is one that it has in this conversation alone."""
    return record.partition(":")[2].startswith(NEW)


def new_name(made: Made, collection: str) -> str:
    """What the next new record of a collection is named."""
    known = sum(1 for name in made.records if collection_of(name) == collection and is_new(name))
    return f"{collection}:{NEW}{known + 1}"


def kind_of(script: PreparedScript, collection: str) -> str:
    """What one record of a collection is called: a plot."""
    link = script.links.get(collection)
    return script.catalogue.record_types_by_id[link.record_type_id].singular if link is not None else ""


def title_of(script: PreparedScript, row: Mapping[str, Any], record: str) -> str:
    """What a record is called: its title where the person may see it, else its kind and number."""
    collection, _, number = record.partition(":")
    known = script.catalogue.record_types_by_id[script.links[collection].record_type_id]
    field = script.catalogue.by_id.get(known.title_field)
    if field is not None and (known.about, field.key) not in script.catalogue.not_for_the_person:
        shown = field.show(row.get(field.key))
        if shown:
            return shown
    return f"{known.singular} {number.removeprefix(NEW)}" + (" (new)" if number.startswith(NEW) else "")
