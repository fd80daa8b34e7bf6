"""An expression that fails while it is worked out takes no more than its own part of a page with it."""

import unittest
from unittest.mock import patch

from sqlalchemy import func

from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.store.language.library import PLAIN
from tests.support.furnished import Furnished, routes
from tests.support.site import Office


class Failing(unittest.TestCase):
    def test_every_page(self) -> None:
        """The database refuses a function; its segment and its derived field say so, and every other page is whole."""
        furnished = Furnished()
        scope = furnished.house.scope
        furnished.derived = create_derived(scope, DerivedInput(label="Odd", formula="abs(plot_length)"))
        asked = SegmentInput(name="Odd ones", expression="abs(plot_length) > 3")
        furnished.segment = create_segment(scope, "Odd ones")
        change_segment(scope, furnished.segment, read_segment(scope, furnished.segment).revision, asked)
        sound = create_segment(scope, "Sound ones")
        office = Office(furnished.house)
        with patch.dict(PLAIN, {"abs": lambda x: func.finesieve.no_such_function(x)}):
            for method, path in routes():
                if method == "GET" and path not in ("/healthz", "/sign-in"):
                    with self.subTest(path):
                        self.assertLess(office.client.get(furnished.address(path)).status_code, 500)
            self.assertIn("cannot work it out", office.get(f"sift/{furnished.segment}").text)
            self.assertIn("Sound ones", office.get(f"sift/{sound}").text)
            self.assertIn("Sound ones", office.get("").text)


if __name__ == "__main__":
    unittest.main()
