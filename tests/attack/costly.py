"""Files made to hurt: what reading each costs."""

from tests.attack.count import Count
from tests.support.hostile import cost_of, hostile_files

MOST_SECONDS, MOST_MEGABYTES = 2, 100


def costly_files() -> Count:
    """None costs more than two seconds or 100 MB."""
    count = Count("files made to hurt")
    for name, data in hostile_files():
        seconds, megabytes, said = cost_of(data)
        wrong = seconds > MOST_SECONDS or megabytes > MOST_MEGABYTES
        count.end("read in bounds", f"{name}: {seconds:.1f} s, {megabytes:.0f} MB, {said}" if wrong else "")
    return count
