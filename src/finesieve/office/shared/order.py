"""The order that a drag, or a press on an arrow, asks for."""

from collections.abc import Sequence
from typing import TypeVar

from finesieve.core.errors import InvalidInput
from finesieve.web.posted import PostedForm

__all__ = ["new_order"]

_Id = TypeVar("_Id", int, str)


def new_order(form: PostedForm, present: Sequence[_Id]) -> list[_Id]:
    """The ids in their new order.

    A drag sends `order`, the ids joined by commas; an arrow sends `move`, an
    id and `up` or `down`. Raises InvalidInput for ids that are not there.
    """
    by_text = {str(identity): identity for identity in present}
    order = list(present)
    name, _, direction = form.text("move").rpartition(":")
    if name:
        if name not in by_text or direction not in ("up", "down"):
            raise InvalidInput({"move": "What was to be moved is not here any more."})
        here = order.index(by_text[name])
        there = min(max(here + (-1 if direction == "up" else 1), 0), len(order) - 1)
        order.insert(there, order.pop(here))
        return order
    wanted = [part for part in form.text("order").split(",") if part]
    if sorted(wanted) != sorted(by_text):
        raise InvalidInput({"order": "The list has changed meanwhile; load it again."})
    return [by_text[part] for part in wanted]
