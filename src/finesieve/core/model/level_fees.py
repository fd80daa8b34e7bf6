"""What a membership level costs: a formula for whoever takes it, and one for who moves to it from another."""

from pydantic import BaseModel, ConfigDict, Field

from finesieve.core.limits import EXPRESSION

__all__ = ["LevelFee"]


class LevelFee(BaseModel):
    """`costs` is the full price, `moving` what somebody pays who holds another level, "" for the full price too; both
    are formulas in the price mode of the shop. `tax_class` is one of the shop's, "" for untaxed."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    costs: str = Field(min_length=1, max_length=EXPRESSION)
    moving: str = Field(default="", max_length=EXPRESSION)
    tax_class: str = Field(default="", max_length=60)
