"""The value of an expression as texts say it."""

from dataclasses import replace

from finesieve.core.fields.definition import say_value
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import Value

__all__ = ["show_typed"]


def show_typed(catalogue: Catalogue, typed: Typed, value: Value) -> str:
    """The value of an expression as texts say it; a field's as the field says it, its fallback for a blank."""
    if typed.operation in ("name", "house"):
        field = catalogue.keys_of(typed.about).get(typed.name)
        if field is not None:
            return field.say(value) or field.settings.fallback
    return say_value(replace(typed.type, unit=""), value, catalogue.manner) if value is not None else ""
