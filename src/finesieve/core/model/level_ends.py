"""How long a membership level is held: until a day, or so long after somebody got it."""

from datetime import date, timedelta
from typing import Final, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from finesieve.core.limits import KEY
from finesieve.core.phrases import Phrase, phrase
from finesieve.core.values import months_later

__all__ = ["LEVEL_ENDS", "UNITS", "LevelEnd", "LevelUnit"]

LEVEL_ENDS: Final = "level_ends"
"""The key of the built-in field that keeps the last day of the level that somebody holds."""

LevelUnit = Literal["days", "months", "years"]
UNITS: Final[tuple[LevelUnit, ...]] = ("days", "months", "years")
_SAID: Final = {
    "days": ("1 day", "{number} days"),
    "months": ("1 month", "{number} months"),
    "years": ("1 year", "{number} years"),
}


class LevelEnd(BaseModel):
    """Until the day `on`, or `after` so many units; `falls_to` is the key of the level then, "" for none."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    on: date | None = None
    after: int = Field(default=0, ge=0, le=1000)
    unit: LevelUnit = "months"
    falls_to: str = Field(default="", max_length=KEY)

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        if (self.on is None) == (self.after == 0):
            raise ValueError("A level ends either on a day or so long after somebody got it.")
        return self

    def last_day(self, got: date) -> date:
        """The last day of holding it, for who got it on a day; where no calendar goes that far, the last there is."""
        if self.on is not None:
            return self.on
        try:
            if self.unit == "days":
                return got + timedelta(days=self.after)
            later = months_later(got, self.after * (12 if self.unit == "years" else 1))
        except OverflowError:
            later = None
        return later or date.max

    @property
    def how_long(self) -> Phrase | None:
        """`12 months`; None where it ends on a day."""
        if self.on is not None:
            return None
        one, several = _SAID[self.unit]
        return phrase(one) if self.after == 1 else phrase(several, number=str(self.after))
