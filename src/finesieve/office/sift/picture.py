"""The sieve drawn: each tray as wide as the number of people who reach it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.sieve.meshes import Tray

__all__ = ["Part", "TrayPicture", "draw_sieve"]

WIDTH: Final = 670.0
_GRAIN: Final = 7.0
_LETTER: Final = 7.0


@dataclass(frozen=True, slots=True)
class Part:
    """A stretch of a tray. `label` stands inside where it fits, else `aside` right of the tray."""

    verdict: str
    x: float
    width: float
    count: int
    label: str
    aside: bool
    label_x: float


@dataclass(frozen=True, slots=True)
class TrayPicture:
    """One tray: its parts, the meshes below what passes, and the grains that fall."""

    width: float
    passing: float
    parts: tuple[Part, ...]
    grains: tuple[tuple[float, int], ...]


def draw_sieve(everyone: int, trays: Sequence[Tray]) -> tuple[TrayPicture, ...]:
    """The trays from top to bottom, in units of the picture's width for everyone."""
    scale = WIDTH / everyone if everyone else 0.0
    return tuple(_tray(tray, scale, place) for place, tray in enumerate(trays))


def _tray(tray: Tray, scale: float, place: int) -> TrayPicture:
    counts = (
        ("passes", tray.passes, "pass"),
        ("caught", tray.caught, "caught"),
        ("cant_tell", tray.cant_tell, "can’t tell"),
    )
    width = tray.reached * scale
    parts: list[Part] = []
    x, aside_x = 0.0, width + 8
    for verdict, count, word in counts:
        stretch = count * scale
        label = f"{count:,} {word}"
        needed = len(label) * _LETTER + 14
        if count:
            aside = stretch < needed and verdict != "passes"
            if stretch < needed and not aside and stretch < len(f"{count:,}") * _LETTER + 14:
                aside = True
            elif stretch < needed and not aside:
                label = f"{count:,}"
            parts.append(
                Part(
                    verdict, round(x, 1), round(stretch, 1), count, label, aside, round(aside_x if aside else x + 8, 1)
                )
            )
            if aside:
                aside_x += needed
        x += stretch
    passing = tray.passes * scale
    return TrayPicture(round(width, 1), round(passing, 1), _kept_inside(parts, width), _grains(passing, place))


def _kept_inside(parts: list[Part], width: float) -> tuple[Part, ...]:
    """Labels beside the tray must not run out of the picture; those that would say only their figure, above."""
    room = WIDTH + 30 - width
    return tuple(
        Part(part.verdict, part.x, part.width, part.count, "", True, part.label_x)
        if part.aside and part.label_x - width + len(part.label) * _LETTER > room
        else part
        for part in parts
    )


def _grains(passing: float, place: int) -> tuple[tuple[float, int], ...]:
    """Falling grains below the passing part; their lengths vary in a fixed pattern."""
    count = int(passing // _GRAIN)
    return tuple((round(4.5 + n * _GRAIN, 1), 9 + (n * 5 + place * 3) % 7) for n in range(count))
