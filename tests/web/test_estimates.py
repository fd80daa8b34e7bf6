"""Pages in a hurry: estimates are said to be such, and asked for again they are exact; what decides is always exact."""

import unittest
from unittest.mock import patch

from finesieve.store.reading import kept as keeping
from tests.support.house import make_house
from tests.support.site import Office

NOTE = "estimates for the moment"


class Estimates(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.office = Office(self.house)
        for zone in ("north", "hill", "hill"):
            self.house.add(zone=zone)
        for name, value in (("SMALL", -2), ("QUICK", 1e-9)):
            patcher = patch.object(keeping, name, value)
            patcher.start()
            self.addCleanup(patcher.stop)

    def test_said_and_then_exact(self) -> None:
        first = self.office.get("people").text
        self.assertIn(NOTE, first)
        exact = self.office.client.get(self.office.path("people"), headers={"X-Exact": "yes"}).text
        self.assertNotIn(NOTE, exact)
        self.assertNotIn(NOTE, self.office.get("people").text)
        self.house.add()
        self.assertIn(NOTE, self.office.get("people").text)

    def test_small_houses_see_no_estimate(self) -> None:
        with patch.object(keeping, "SMALL", 50_000), patch.object(keeping, "QUICK", 0.15):
            for rest in ("", "people", "sift", "define", "define/tags"):
                self.assertNotIn(NOTE, self.office.get(rest).text)

    def test_what_decides_is_exact(self) -> None:
        """An option that somebody chose a moment ago does not go, whatever was counted before."""
        field = self.house.field_id("zone")
        without_hill = {
            "rows": "0,1",
            "o_0_was": "north",
            "o_0_label": "North",
            "o_1_was": "south",
            "o_1_label": "South",
        }
        self.assertEqual(self.office.post(f"define/fields/{field}/options", without_hill).status_code, 422)
        self.house.add(zone="south")
        data = {"rows": "0,1", "o_0_was": "north", "o_0_label": "North", "o_1_was": "hill", "o_1_label": "Hill"}
        answer = self.office.post(f"define/fields/{field}/options", data)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("1 person holds", answer.text)


if __name__ == "__main__":
    unittest.main()
