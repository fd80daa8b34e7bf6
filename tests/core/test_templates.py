"""How templates are written: read as files, so that a slip shows before anything is served."""

import re
import unittest
from pathlib import Path

_SOURCES = Path(__file__).parents[2] / "src" / "finesieve"


class Templates(unittest.TestCase):
    def test_nothing_the_policy_forbids(self) -> None:
        """No inline style, script or handler, and nothing of htmx that needs eval."""
        for path in _SOURCES.rglob("*.html"):
            text = path.read_text()
            with self.subTest(path.name):
                self.assertIsNone(re.search(r"\sstyle=|<style|\son[a-z]+=|hx-on|js:|javascript:|hx-vals", text))
                self.assertEqual(re.findall(r"<script(?! src=)", text), [])
                self.assertNotIn("|safe", text.replace(" ", ""))
                self.assertEqual([line for line in text.splitlines() if len(line) > 160], [], "too long to read")
