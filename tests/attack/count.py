"""What an attack tried, and what it found."""

from collections import Counter
from dataclasses import dataclass, field


@dataclass
class Count:
    """How many tries had which end, and in words each that should not have ended so."""

    name: str
    ends: Counter[str] = field(default_factory=Counter)
    found: list[str] = field(default_factory=list)
    seconds: dict[str, float] = field(default_factory=dict)

    def end(self, how: object, wrong: str = "") -> None:
        """Count one try; `wrong` says why it should not have ended so."""
        self.ends[str(how)] += 1
        if wrong:
            self.found.append(wrong)

    def __str__(self) -> str:
        ends = ", ".join(f"{how}: {number:,}" for how, number in sorted(self.ends.items()))
        slowest = "".join(f"; {name}: {seconds:.1f} s at the most" for name, seconds in self.seconds.items())
        return f"{self.name}: {self.ends.total():,} tries ({ends}{slowest}), {len(self.found)} did not hold"
