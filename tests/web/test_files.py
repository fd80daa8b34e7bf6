"""Files over the web: sent by staff and by anybody on a form, given out as downloads only, lost by no error."""

import re
import unittest

from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.forms.forms import publish_form, read_draft
from tests.services.test_collect import make_form
from tests.services.test_files import PDF, png
from tests.support.house import make_house
from tests.support.site import Office, visitor


class Files(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        group = self.house.group_id()
        self.report = create_field(self.house.scope, group, FieldInput(label="Report", type_key="file"))
        self.photo = create_field(self.house.scope, group, FieldInput(label="Photo", type_key="picture"))
        self.office = Office(self.house)

    def test_sent_by_staff_and_downloaded(self) -> None:
        """Whatever it is, it comes as an attachment that no browser opens in the page; the name is safe."""
        person, group = self.house.add(), self.house.group_id()
        name = "../soil report.pdf"
        answer = self.office.post(
            f"people/{person}", {"group": str(group)}, files={"v_report": (name, PDF), "v_photo": ("a.png", png())}
        )
        self.assertEqual(answer.status_code, 303, answer.text[:500])
        got = self.office.get(f"files/{self.report}/{person}")
        self.assertEqual(
            (got.status_code, got.content, got.headers["content-type"]), (200, PDF, "application/octet-stream")
        )
        self.assertEqual(got.headers["content-disposition"], 'attachment; filename="soil report.pdf"')
        self.assertEqual(got.headers["x-content-type-options"], "nosniff")
        small = self.office.get(f"files/{self.photo}/{person}/small")
        self.assertEqual((small.headers["content-type"], small.content[:4]), ("image/webp", b"RIFF"))
        self.assertEqual(visitor().get(self.office.path(f"files/{self.report}/{person}")).status_code, 303)
        self.assertEqual(Office(make_house()).get(f"files/{self.report}/{person}").status_code, 404)

    def test_a_file_that_will_not_do(self) -> None:
        """It is said at its field, and nothing else that was typed is lost."""
        person = self.house.add()
        answer = self.office.post(
            f"people/{person}",
            {"group": str(self.house.group_id()), "v_favourite": "Kale"},
            files={"v_photo": ("a.png", PDF)},
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("Choose a picture", answer.text)
        self.assertIn('value="Kale"', answer.text)

    def test_on_a_public_form(self) -> None:
        """An error elsewhere keeps the file: it need not be chosen again; sent, it is with the person."""
        form = make_form(self.house, "report", "zone")
        publish_form(self.house.scope, form, read_draft(self.house.scope, form).revision)
        client, address = visitor(), f"/join/{self.house.slug}/join-us"
        token = re.search(r'name="token" value="([^"]+)"', client.get(address).text)[1]  # type: ignore[index]
        data = {"token": token, "asked": ["q1", "q2", "q3"], "a_q1": "no email", "a_q3": "hill"}
        answer = client.post(address, data=data, files={"f_q2": ("soil.pdf", PDF)})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("soil.pdf is here already", answer.text)
        kept = re.search(r'name="a_q2" value="([^"]+)"', answer.text)[1]  # type: ignore[index]
        answer = client.post(address, data={**data, "a_q1": "wren@hedgerow.example", "a_q2": kept})
        self.assertEqual(answer.status_code, 303)
        person = int(re.findall(r"/people/(\d+)", self.office.get("people").text)[0])
        self.assertEqual(self.office.get(f"files/{self.report}/{person}").content, PDF)
        wrong = client.post(address, data=data, files={"f_q2": ("a.html", b"<script>")})
        self.assertEqual((wrong.status_code, "is not taken here" in wrong.text), (422, True))
        self.assertEqual(client.post(address, data=data, files={"f_q3": ("a.pdf", PDF)}).status_code, 422)


if __name__ == "__main__":
    unittest.main()
