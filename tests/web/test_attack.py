"""The attacks of scripts/attack, in short: each must find nothing, and each could."""

import unittest

from tests.attack.kills import kills
from tests.attack.posts import bad_addresses, bad_posts
from tests.attack.roles import prying, tokens


class Attacks(unittest.TestCase):
    def held(self, count: object, least: int) -> None:
        self.assertEqual(count.found, [], str(count))  # type: ignore[attr-defined]
        self.assertGreater(count.ends.total(), least, str(count))  # type: ignore[attr-defined]

    def test_bad_posts(self) -> None:
        self.held(bad_posts(300, seed=9), 220)

    def test_bad_addresses(self) -> None:
        self.held(bad_addresses(2), 250)

    def test_tokens(self) -> None:
        self.held(tokens(), 200)

    def test_prying(self) -> None:
        for role in ("reader", "clerk"):
            self.held(prying(role, share=6), 100)  # type: ignore[arg-type]

    def test_an_editor_sees_what_others_pry_for(self) -> None:
        """So the search for it is one that can find."""
        self.assertGreater(len(prying("editor", share=0).found), 3)

    def test_killed_under_load(self) -> None:
        self.held(kills(1), 10)


if __name__ == "__main__":
    unittest.main()
