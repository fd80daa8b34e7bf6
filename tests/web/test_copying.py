"""A field copied to another workspace that one may edit: its dry run there, then loading it."""

import html
import re
import unittest

from finesieve.services.accounts.staff import NewWorkspace
from tests.support.house import make_house
from tests.support.site import Office, application


class Copying(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.office = Office(self.house)
        accounts = application().state.site.accounts
        signed_in = accounts.who(accounts.sign_in_as(self.house.email))
        self.other = accounts.create_workspace(NewWorkspace(name=f"Branch of {self.house.slug}"), signed_in.staff_id)
        self.zone = str(self.house.field_id("zone"))

    def test_with_its_options(self) -> None:
        """The page offers the other workspace, shows what would be added there, and loads it there, not here."""
        self.assertIn(self.other, self.office.get(f"define/file?field={self.zone}").text)
        plan = self.office.post("define/file/copy", {"field": self.zone, "to": self.other})
        self.assertEqual(plan.status_code, 200)
        self.assertIn(f'action="/w/{self.other}/define/file"', plan.text)
        self.assertNotIn('name="remove"', plan.text)
        text = html.unescape(re.search(r'<textarea name="text"[^>]*>(.*?)</textarea>', plan.text, re.S)[1])  # type: ignore[index]
        data = {"csrf": self.office.csrf, "load": "yes", "text": text}
        self.assertEqual(self.office.client.post(f"/w/{self.other}/define/file", data=data).status_code, 303)
        found = self.office.client.get(f"/w/{self.other}/define/search?q=zone").text
        there = re.search(r"define/fields/(\d+)", found)
        assert there, found[:500]
        page = self.office.client.get(f"/w/{self.other}/define/fields/{there[1]}").text
        for option in ("North", "Hill", "South"):
            self.assertIn(option, page)

    def test_only_where_one_may_edit(self) -> None:
        """Somebody else's workspace is not there at all."""
        theirs = make_house()
        self.assertNotIn(theirs.slug, self.office.get(f"define/file?field={self.zone}").text)
        refused = self.office.post("define/file/copy", {"field": self.zone, "to": theirs.slug})
        self.assertEqual(refused.status_code, 404)


if __name__ == "__main__":
    unittest.main()
