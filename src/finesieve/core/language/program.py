"""What the Python back end makes of a checked form: a function of one person's values and the moment."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, tzinfo

from finesieve.core.fields.manner import PLAIN, Manner
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value, local_date

__all__ = ["Maker", "Moment", "Program"]


@dataclass(frozen=True, slots=True)
class Moment:
    """When an expression is worked out, and where: `now` is aware, `zone` the workspace's.

    `house` gives the house values as they stand at that moment, by key, and
    `manner` how the house writes.
    """

    now: datetime
    zone: tzinfo
    house: Mapping[str, Value] = field(default_factory=dict, compare=False)
    manner: Manner = field(default=PLAIN, compare=False)

    @property
    def today(self) -> date:
        # A clock at the very end of the years stays there.
        return local_date(self.now, self.zone) or self.now.date()


Program = Callable[[Mapping[str, Value], Moment], Value]
"""Values by key and the moment, to the result. Never raises for values of the right types."""

Maker = Callable[[Typed, tuple[Program, ...]], Program]
"""Makes the program of an operation out of those of its parts."""
