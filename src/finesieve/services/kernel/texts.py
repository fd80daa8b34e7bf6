"""Texts that people write: a placeholder that cannot work is refused where it is saved."""

from collections.abc import Mapping

from finesieve.core.errors import InvalidInput
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.names import World
from finesieve.core.language.placeholders import placeholder_problems
from finesieve.services.kernel.scope import Unit

__all__ = ["refuse_texts"]


def refuse_texts(unit: Unit, texts: Mapping[str, str], world: World | None = None) -> None:
    """Raise InvalidInput, by the path of each text, where a placeholder in it cannot work.

    `world` is what a placeholder may name, by default what is known of a person.
    """

    def checked(text: str) -> Checked:
        return check(text, world, zone=unit.catalogue.zone) if world is not None else unit.catalogue.check(text)

    wrong = {path: placeholder_problems(text, checked) for path, text in texts.items() if "{" in text}
    messages = {path: found[0].message for path, found in wrong.items() if found}
    if messages:
        raise InvalidInput(messages)
