"""Adding and taking away fillings of a repeated section, by the buttons of a page."""

from collections.abc import Mapping

__all__ = ["fillings_after"]


def fillings_after(answers: Mapping[str, str], action: str) -> dict[str, str]:
    """The answers after a button was pressed: `add:s2` one more filling, `drop:s2:3` the filling 3 less."""
    found = dict(answers)
    what, _, rest = action.partition(":")
    section, _, filling = rest.partition(":")
    if what not in ("add", "drop") or not section:
        return found
    named = found.get(section, "").split()
    if what == "drop":
        named = [one for one in named if one != filling]
    elif len(named) < 100:
        # A number that no answer has had, so that nothing of a filling taken away comes back.
        used = [*named, *(name.rpartition(".")[2] for name in found)]
        numbers = [int(one) for one in used if one.isascii() and one.isdigit() and len(one) < 5]
        named.append(str(max(numbers, default=0) + 1))
    found[section] = " ".join(named)
    return found
