"""The sieve drawn: each tray as wide as the number of people who reach it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.fields.manner import write_figure
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


def draw_sieve(everyone: int, trays: Sequence[Tray], language: str) -> tuple[TrayPicture, ...]:
    """The trays from top to bottom, in units of the picture's width for everyone."""
    scale = WIDTH / everyone if everyone else 0.0
    return tuple(_tray(tray, scale, place, language) for place, tray in enumerate(trays))


def _tray(tray: Tray, scale: float, place: int, language: str) -> TrayPicture:
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
        if count:
            label, aside = _label(write_figure(count, language), word, stretch, WIDTH + 30 - aside_x)
            label_x = aside_x if aside else x + 8
            parts.append(Part(verdict, round(x, 1), round(stretch, 1), count, label, aside, round(label_x, 1)))
            aside_x += _room(label) if aside else 0
        x += stretch
    passing = tray.passes * scale
    return TrayPicture(round(width, 1), round(passing, 1), tuple(parts), _grains(passing, place))


def _room(label: str) -> float:
    return len(label) * _LETTER + 14


def _label(figure: str, word: str, inside: float, beside: float) -> tuple[str, bool]:
    """The fullest label there is room for, and whether it stands beside the tray."""
    whole = f"{figure} {word}"
    if _room(whole) <= inside:
        return whole, False
    if _room(whole) <= beside:
        return whole, True
    return (figure, False) if _room(figure) <= inside else ("", False)


def _grains(passing: float, place: int) -> tuple[tuple[float, int], ...]:
    """Falling grains below the passing part; their lengths vary in a fixed pattern."""
    count = int(passing // _GRAIN)
    return tuple((round(4.5 + n * _GRAIN, 1), 9 + (n * 5 + place * 3) % 7) for n in range(count))
