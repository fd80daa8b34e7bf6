"""The rule that says who waits for approval before a level or a role is theirs."""

from dataclasses import replace

from finesieve.core.fields.about import PERSON
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.names import World
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue

__all__ = ["check_approval"]


def _world(catalogue: Catalogue) -> World:
    """What the rule may read: the person as they would be, and `form.level` and `form.role`, which they ask for."""
    world = catalogue.world(PERSON)
    asked = {"level": catalogue.by_id.get(LEVEL_QUESTION), "role": catalogue.by_key.get("role")}
    types = {key: one.value_type for key, one in asked.items() if one is not None}
    return replace(world, prefixes={**world.prefixes, "form": types}, remembered=frozenset())


def check_approval(catalogue: Catalogue, rule: str) -> Checked:
    """The rule, checked."""
    return check(rule, _world(catalogue), zone=catalogue.zone, expect="yes_no")
