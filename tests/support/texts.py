"""Text fixtures: one `input ⇒ expected` a line; # begins a comment line."""

from pathlib import Path

_HERE = Path(__file__).parents[1] / "fixtures"


def pairs(name: str) -> list[tuple[str, str]]:
    """The pairs of a fixture file, in order."""
    lines = (_HERE / name).read_text().splitlines()
    parts = [line.split(" ⇒ ") for line in lines if line and not line.startswith("#")]
    return [(before, after) for before, after in parts]
