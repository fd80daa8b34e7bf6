"""Attack the application for as long as one likes.

Usage: python -m tests.attack [--tries N] [--seed N] [--rounds N]. Prints what was tried and how it ended; 1 where
something did not hold.
"""

import argparse
import random
import sys
from collections.abc import Callable
from functools import partial

from tests.attack.costly import costly_files
from tests.attack.count import Count
from tests.attack.kills import kills
from tests.attack.orders import orders_under_load
from tests.attack.posts import bad_addresses, bad_posts
from tests.attack.roles import prying, tokens


def main() -> int:
    """Run every attack, the one that kills first, because it brings a database of its own."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--tries", type=int, default=4_000, help="how many bad posts are made")
    parser.add_argument("--rounds", type=int, default=3, help="how often each process is killed")
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**6))
    asked = parser.parse_args()
    print(f"seed {asked.seed}", flush=True)
    attacks: tuple[Callable[[], Count], ...] = (
        partial(kills, asked.rounds), partial(orders_under_load, 120, 200), bad_addresses, tokens, costly_files, partial(prying, "reader"), partial(prying, "clerk"),
        partial(bad_posts, asked.tries, asked.seed),
    )  # fmt: skip
    found = 0
    for attack in attacks:
        count = attack()
        print(count, *count.found[:20], sep="\n    ", flush=True)
        found += len(count.found)
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
