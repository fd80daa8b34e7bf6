"""What a level costs whoever takes it: set, changed, and taken back."""

from pydantic import Field as Bounds

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.forms.fees import fee_problem
from finesieve.core.limits import EXPRESSION
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.level_fees import LevelFee
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.merging import merged
from finesieve.services.kernel.scope import Scope
from finesieve.store.definitions.catalogue import touch
from finesieve.store.tables import LevelRow

__all__ = ["LevelFeeInput", "set_level_fee", "shown_level_fee", "why_not_level_fee"]

_NO_SHOP = "Set up the shop first: an order needs its taxes and ways of payment."


class LevelFeeInput(Input):
    """What a level costs, as typed; nothing for a level that is free."""

    costs: str = Bounds(default="", max_length=EXPRESSION)
    moving: str = Bounds(default="", max_length=EXPRESSION)
    tax_class: str = Bounds(default="", max_length=60)

    def read(self) -> LevelFee | None:
        """The fee; None for none. Raises InvalidInput for a price of moving alone."""
        costs, moving = self.costs.strip(), self.moving.strip()
        if moving and not costs:
            raise InvalidInput({"costs": "Give the full price too."})
        return LevelFee(costs=costs, moving=moving, tax_class=self.tax_class) if costs else None


def shown_level_fee(fee: LevelFee | None) -> LevelFeeInput:
    """A fee as the page shows it."""
    return LevelFeeInput(**fee.model_dump()) if fee is not None else LevelFeeInput()


def _problems(catalogue: Catalogue, fee: LevelFee) -> dict[str, str]:
    """What is wrong with a fee, by its part."""
    texts = {"costs": fee.costs, "moving": fee.moving}
    found = {part: problem for part, text in texts.items() if text and (problem := fee_problem(catalogue, text))}
    if catalogue.shop is None:
        found.setdefault("costs", _NO_SHOP)
    elif fee.tax_class and fee.tax_class not in catalogue.shop.tax_classes:
        found["tax_class"] = "The shop has no such tax class."
    return found


def why_not_level_fee(catalogue: Catalogue, fee: LevelFee | None) -> str:
    """Why a level cannot cost this, in one sentence; "" where it can."""
    return next(iter(_problems(catalogue, fee).values()), "") if fee is not None else ""


def set_level_fee(scope: Scope, level_id: int, asked: LevelFeeInput, was: LevelFeeInput | None = None) -> int:
    """Say what a level costs; gives the id for undoing, 0 where nothing changes. Orders stay as they were charged.

    Raises NotFound, InvalidInput, and Overtaken for a clash with what the page showed (`was`).
    """
    with scope.transaction("editor") as unit:
        row = unit.session.get(LevelRow, level_id, with_for_update=True)
        level = next((one for one in unit.catalogue.levels if one.id == level_id), None)
        if row is None or level is None:
            raise NotFound("There is no such level.")
        fee = merged(unit, "level", level_id, asked, was, shown_level_fee(level.fee)).read()
        problems = _problems(unit.catalogue, fee) if fee is not None else {}
        if problems:
            raise InvalidInput(problems)
        if fee == level.fee:
            return 0
        before = snapshot(unit, "level", level_id)
        row.fee = fee.model_dump(mode="json") if fee is not None else None
        unit.session.add(row)
        unit.session.flush()
        touch(unit.session, unit.workspace_id)
        return record_change(unit, "level", level_id, f"Changed what {level.name} costs", before)
