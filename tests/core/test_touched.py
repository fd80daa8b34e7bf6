"""What a change touches is what is tested: too much rather than too little."""

import unittest
from unittest.mock import patch

from tests import touched
from tests.run import SUITES, _modules


class Touched(unittest.TestCase):
    def by(self, *paths: str) -> list[str]:
        with patch.object(touched, "_changed", return_value=list(paths)):
            return touched.touched(self.everything, "HEAD")

    def setUp(self) -> None:
        self.everything = _modules(list(SUITES))

    def test_what_imports_it(self) -> None:
        self.assertIn("tests.core.test_trial", self.by("src/finesieve/core/setup/trial.py"))
        self.assertNotIn("tests.store.test_store", self.by("src/finesieve/core/setup/trial.py"))
        self.assertIn("tests.browser.test_journey", self.by("src/finesieve/services/define/tagging.py"))
        self.assertEqual(self.by("tests/core/test_trial.py"), ["tests.core.test_trial"])
        rest = set(self.everything) - set(self.by("src/finesieve/core/values.py"))
        self.assertEqual(rest, {"tests.core.test_bill", "tests.core.test_templates"}, "money alone needs no values")

    def test_what_nothing_imports_touches_all(self) -> None:
        for path in (
            "src/finesieve/store/files/picture_reader.py", "src/finesieve/store/migrations/versions/0001_the_first_tables.py",
            "src/finesieve/starters/choir.schema.json", "pyproject.toml", "scripts/test", "tests/fixtures/values.txt",
        ):  # fmt: skip
            self.assertEqual(self.by(path), self.everything, path)

    def test_pages_and_documents(self) -> None:
        pages = self.by("src/finesieve/office/sift/segment.html")
        self.assertEqual({name.split(".")[1] for name in pages if "templates" not in name}, {"web", "browser"})
        self.assertIn("tests.core.test_templates", pages)
        self.assertEqual(self.by("docs/forms.md"), ["tests.core.test_docs"])
        self.assertEqual(self.by(), [])


if __name__ == "__main__":
    unittest.main()
