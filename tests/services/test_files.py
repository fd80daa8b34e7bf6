"""Files, secrets and structured data: taken with care, kept apart, given to those who may have them."""

import hashlib
import io
import tempfile
import unittest
import zipfile
from datetime import timedelta
from pathlib import Path
from unittest.mock import patch

from PIL import Image
from sqlmodel import select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.families.data import MEDIA
from finesieve.core.values import Secret
from finesieve.services.accounts.members import MemberAccounts, SignedInMember
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.deletion import begin_purge, delete_field
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.filling.open_form import Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import publish_form, read_draft
from finesieve.services.kernel.tasks import run_task
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.sift.export import export_segment
from finesieve.services.sift.segments import create_segment
from finesieve.services.values import sealing
from finesieve.services.values.files import (
    examine,
    open_file,
    open_thumbnail,
    read_shelf,
    send_file,
    shelf_of,
    sweep_uploads,
    take_files,
)
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore, clean_name
from finesieve.store.files.sniffing import Refused, sniff
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import History, Submission
from tests.services.test_collect import make_form, public
from tests.support.database import store
from tests.support.hostile import cost_of, hostile_files
from tests.support.house import NOW, make_house
from tests.support.pictures import png
from tests.support.shop import SECRET
from tests.support.work import later


def packed(*files: tuple[str, str]) -> bytes:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as archive:
        for name, text in files:
            archive.writestr(name, text)
    return data.getvalue()


PDF = b"%PDF-1.7\n1 0 obj\n<<>>\nendobj\ntrailer\n<<>>\n%%EOF\n"


class Sniffing(unittest.TestCase):
    def test_bytes_tell_what_a_file_is(self) -> None:
        """Not its name: a page in disguise is never taken for text or a picture."""
        for data, media_type in (
            (png(), "image/png"),
            (PDF, "application/pdf"),
            (b"name,zone\nWren,north\n", "text/csv"),
            ("grüne Bohnen\n".encode(), "text/plain"),
            (b"<html><script>alert(1)</script>", "application/octet-stream"),
            (b"\xef\xbb\xbf  <svg xmlns='http://www.w3.org/2000/svg'/>", "application/octet-stream"),
            (packed(("[Content_Types].xml", ""), ("word/document.xml", "")), MEDIA["documents"][0]),
            (packed(("[Content_Types].xml", ""), ("xl/workbook.xml", "")), MEDIA["sheets"][0]),
            (packed(("mimetype", "application/vnd.oasis.opendocument.text")), MEDIA["documents"][1]),
            (packed(("a.html", "<script>")), "application/zip"),
            (b"PK\x03\x04 broken", "application/octet-stream"),
            (b"\x00\x01\x02\x03", "application/octet-stream"),
        ):
            with self.subTest(data[:12]):
                self.assertEqual(sniff(data).media_type, media_type)
        with self.assertRaises(Refused):
            sniff(png()[:60])

    def test_no_bytes_cost_much(self) -> None:
        """Of ten megabytes or less, whatever they are: two seconds of work and 100 MB at the most, refused or not."""
        for name, data in hostile_files():
            with self.subTest(name):
                seconds, megabytes, _ = cost_of(data)
                self.assertLess(seconds, 2.5)
                self.assertLess(megabytes, 100)

    def test_an_archive_is_what_it_may_be(self) -> None:
        """What the first entry says counts only where it stands there as it is, and names a document."""
        text = MEDIA["documents"][1]
        for entry, media_type in (
            (("mimetype", text, zipfile.ZIP_STORED), text),
            (("mimetype", text, zipfile.ZIP_DEFLATED), "application/zip"),
            (("mimetype", text, zipfile.ZIP_LZMA), "application/zip"),
            (("mimetype", "image/png", zipfile.ZIP_STORED), "application/zip"),
            (("mimetype", "text/plain", zipfile.ZIP_STORED), "application/zip"),
            (("mimetype", text + " " * 300, zipfile.ZIP_STORED), "application/zip"),
        ):
            name, said, packing = entry
            data = io.BytesIO()
            with zipfile.ZipFile(data, "w") as archive:
                archive.writestr(name, said, packing)
            with self.subTest(entry):
                self.assertEqual(sniff(data.getvalue()).media_type, media_type)

    def test_sounds(self) -> None:
        for data in (b"RIFF\x24\x00\x00\x00WAVEfmt " + bytes(40), b"ID3\x03" + bytes(60), b"OggS" + bytes(60)):
            self.assertIn(sniff(data).media_type, MEDIA["audio"])

    def test_names_are_safe(self) -> None:
        for name, clean in (
            ("../../etc/passwd", "passwd"), ("C:\\a\\soil report.pdf", "soil report.pdf"), ("a\r\nb.pdf", "ab.pdf"),
            ("", "file"), ("...", "file"), ('"<x>".txt', "x.txt"), ("x" * 300 + ".pdf", "x" * 116 + ".pdf"),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(clean_name(name), clean)


class Files(unittest.TestCase):
    def setUp(self) -> None:
        directory = tempfile.TemporaryDirectory()
        self.addCleanup(directory.cleanup)
        self.root = Path(directory.name)
        self.files = FileStore(self.root)
        self.house = make_house()
        self.scope = self.house.scope
        settings = {"media": ["pdf"], "most_kilobytes": 20, "files_for": "editors"}
        self.report = create_field(
            self.scope, self.house.group_id(), FieldInput(label="Report", type_key="file", settings=settings)
        )
        self.photo = create_field(self.scope, self.house.group_id(), FieldInput(label="Photo", type_key="picture"))
        self.person = self.house.add()

    def send(self, key: str, name: str, data: bytes) -> str:
        return send_file(self.scope, self.files, examine(make_field(self.house, key), name, data))

    def keep(self, key: str, name: str, data: bytes) -> None:
        token = self.send(key, name, data)
        set_values(self.scope, self.person, {key: token}, read_shelf(self.scope, [token]))

    def test_kept_and_opened(self) -> None:
        """The bytes come back as they were; a picture has a small one; who may not open them is told."""
        self.keep("report", "soil report.pdf", PDF)
        self.keep("photo", "plot.png", png())
        opened = open_file(self.scope, self.files, self.report, self.person)
        self.assertEqual(
            (opened.data, opened.file.name, opened.file.media_type), (PDF, "soil report.pdf", "application/pdf")
        )
        small = Image.open(io.BytesIO(open_thumbnail(self.scope, self.files, self.photo, self.person)))
        self.assertEqual((small.format, max(small.size)), ("WEBP", 320))
        reader = self.house.as_role("reader")
        with self.assertRaises(NotAllowed):
            open_file(reader, self.files, self.report, self.person)
        self.assertTrue(open_file(reader, self.files, self.photo, self.person).data)
        with self.assertRaises(NotFound):
            open_thumbnail(self.scope, self.files, self.report, self.person)

    def test_its_owner_opens_it_on_their_account(self) -> None:
        """Their own, and nothing private to staff; sending the account without another one leaves it."""
        self.keep("photo", "plot.png", png())
        self.keep("report", "soil report.pdf", PDF)
        form = create_account_form(self.scope, "Your account")
        add_question(self.scope, form, read_draft(self.scope, form).revision, self.photo)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        members = MemberAccounts(store(), lambda: NOW, SECRET, fast_hashes=True)
        mine, other = (SignedInMember(one, 0, 0, "") for one in (self.person, self.house.add()))
        self.assertEqual(members.file_of(self.house.slug, mine, self.photo, self.files).data, png())
        change_field(self.scope, self.report, FieldInput(label="Report", settings={"private": True}))
        for who, field in (
            (other, self.photo),
            (mine, self.report),
            (mine, self.house.field_id("zone")),
            (mine, 999_999),
        ):
            with self.assertRaises(NotFound):
                members.file_of(self.house.slug, who, field, self.files)
        forms = PublicForms(store(), lambda: NOW, SECRET)
        opened = forms.open(self.house.slug, "your-account", Visit(person=self.person, until=2**40))
        asked = frozenset(one.id for one in opened.outcome.showing)
        given = {one.id: one.raw for one in opened.outcome.showing}
        sent = forms.send(self.house.slug, "your-account", opened.token, given, asked, person=self.person)
        self.assertTrue(sent.sent, sent.outcome.troubles)
        self.assertTrue(open_file(self.scope, self.files, self.photo, self.person).data)

    def test_what_is_not_taken(self) -> None:
        for key, name, data in (
            ("report", "a.pdf", b""),
            ("report", "a.pdf", PDF + b" " * 30_000),
            ("report", "a.pdf", png(10, 10)),
            ("photo", "a.png", PDF),
            ("photo", "a.png", png()[:80]),
        ):
            with self.subTest(key=key, size=len(data)), self.assertRaises(ValueError):
                self.send(key, name, data)
        # A broken picture is refused the second time too, and nothing of what was refused lies on the disk.
        self.assertEqual([path for path in self.root.rglob("*") if path.is_file()], [])
        with self.assertRaises(InvalidInput):
            take_files(self.scope, self.files, {"zone": ("a.pdf", PDF)}, {"zone": make_field(self.house, "zone")})
        with self.assertRaises(InvalidInput):
            set_values(self.scope, self.person, {"report": "made up"})

    def test_history_and_taking_away(self) -> None:
        self.keep("report", "first.pdf", PDF)
        self.keep("report", "second.pdf", PDF + b"%")
        set_values(self.scope, self.person, {"report": ""})
        self.assertEqual(open_file(self.scope, self.files, self.report, self.person).file.name, "second.pdf")
        set_values(self.scope, self.person, {"report": "-"})
        with self.assertRaises(NotFound):
            open_file(self.scope, self.files, self.report, self.person)
        told = [(line.old, line.new) for line in read_profile(self.scope, self.person, "report").history]
        self.assertEqual([new.split(" (")[0] for _, new in told], ["", "second.pdf", "first.pdf"])

    def test_another_workspace_sees_nothing(self) -> None:
        self.keep("report", "soil report.pdf", PDF)
        other = make_house()
        with self.assertRaises(NotFound):
            open_file(other.scope, self.files, self.report, self.person)
        self.assertEqual(read_shelf(other.scope, [self.send("report", "b.pdf", PDF)]).files, {})

    def test_a_token_is_good_for_its_field_only(self) -> None:
        """A text that was taken for one field does not become the picture of another, nor does one of a form."""
        token = self.send("report", "a.pdf", PDF)
        with self.assertRaises(InvalidInput):
            set_values(self.scope, self.person, {"photo": token}, read_shelf(self.scope, [token]))
        elsewhere = send_file(
            self.scope, self.files, examine(make_field(self.house, "report"), "a.pdf", PDF), form_id=7
        )
        with self.assertRaises(InvalidInput):
            set_values(self.scope, self.person, {"report": elsewhere}, read_shelf(self.scope, [elsewhere]))
        with self.scope.transaction("public") as unit:
            self.assertEqual(list(shelf_of(unit, [token, elsewhere], 7).files), [elsewhere])

    def test_what_nobody_kept_is_forgotten(self) -> None:
        """After two days, with its bytes, unless a value of today or of the past has the same."""
        token = self.send("report", "a.pdf", PDF)
        self.send("photo", "a.png", png())
        self.keep("report", "b.pdf", PDF + b"%")
        self.keep("report", "c.pdf", PDF + b"%%")
        self.assertEqual(sweep_uploads(later(self.house, NOW + timedelta(hours=47)).scope, self.files), 0)
        self.send("report", "a.pdf", PDF + b"%%%")
        self.assertEqual(sweep_uploads(later(self.house, NOW + timedelta(hours=49)).scope, self.files), 5)
        self.assertEqual(read_shelf(self.scope, [token]).files, {})
        left = {path.name for path in self.root.rglob("*") if path.is_file()}
        self.assertEqual(left, {hashlib.sha256(PDF + more).hexdigest() for more in (b"%", b"%%")})
        self.assertEqual(open_file(self.scope, self.files, self.report, self.person).data, PDF + b"%%")
        # Deleted for good, its files go too.
        delete_field(later(self.house, NOW - timedelta(days=1)).scope, self.report, "Report")
        moment = NOW + timedelta(days=100)
        task = begin_purge(later(self.house, moment).scope)
        run_task(Store(store().engine, self.files), self.scope.workspace_id, task, lambda: moment)
        self.assertEqual([path for path in self.root.rglob("*") if path.is_file()], [])


def make_field(house, key):  # type: ignore[no-untyped-def]
    with house.scope.transaction("reader") as unit:
        return unit.catalogue.by_key[key]


class Secrets(unittest.TestCase):
    def test_hashed_and_never_shown(self) -> None:
        """Neither the row nor the history nor the page has it; an empty input leaves it, a dash takes it away."""
        house = make_house()
        field_id = create_field(house.scope, house.group_id(), FieldInput(label="Word", type_key="secret"))
        person = house.add()
        set_values(house.scope, person, {"word": "open sesame"})

        def stored() -> str:
            with house.scope.transaction("reader") as unit:
                row = stored_row(unit.session, unit.definitions, "person", person) or {}
                lines = unit.session.exec(select(History).where(History.field_id == field_id)).all()
                return repr(row) + getattr(row["word"], "text", "") + repr([(line.old, line.new) for line in lines])

        kept = stored()
        self.assertNotIn("sesame", kept)
        self.assertIn("$argon2", kept)
        profile = read_profile(house.scope, person, "word")
        shown = next(line for _, lines in profile.groups for line in lines if line.field.key == "word")
        self.assertNotIn("argon2", shown.shown + shown.raw + repr(profile.history[0].new))
        set_values(house.scope, person, {"word": ""})
        self.assertIn("$argon2", stored())
        set_values(house.scope, person, {"word": "-"})
        self.assertEqual(read_profile(house.scope, person, "word").history[0].new, "")

    def test_not_in_what_was_sent_either(self) -> None:
        """A sign-up, stored or held, keeps the hash only; taken over, it is the same hash."""
        house = make_house()
        create_field(house.scope, house.group_id(), FieldInput(label="Word", type_key="secret"))
        form = make_form(house, "word")
        publish_form(house.scope, form, read_draft(house.scope, form).revision)
        house.add(email="wren@hedgerow.example")
        forms = public()
        token = forms.open(house.slug, "join-us").token
        answers = {"q1": "wren@hedgerow.example", "q2": "open sesame"}
        self.assertTrue(forms.send(house.slug, "join-us", token, answers, frozenset(answers)).sent)
        with house.scope.transaction("reader") as unit:
            sent = unit.session.exec(select(Submission).where(Submission.form_id == form)).one()
            self.assertTrue(sent.answers["word"].startswith("$argon2"))
        decide(house.scope, waiting_for(house.scope, sent.person_id)[0].id, apply=True)
        with house.scope.transaction("reader") as unit:
            row = stored_row(unit.session, unit.definitions, "person", sent.person_id) or {}
        self.assertEqual(row["word"], Secret(sent.answers["word"], hashed=True))
        # What looks like a hash is a secret like any other: it is hashed, not taken for one.
        set_values(house.scope, sent.person_id, {"word": sent.answers["word"]})
        with house.scope.transaction("reader") as unit:
            again = stored_row(unit.session, unit.definitions, "person", sent.person_id) or {}
        self.assertNotEqual(again["word"], row["word"])

    def test_hashed_in_no_transaction(self) -> None:
        """While a secret is hashed, which takes a while, no connection is held."""
        house = make_house()
        create_field(house.scope, house.group_id(), FieldInput(label="Word", type_key="secret"))
        person, busy = house.add(), []
        real = sealing._hasher.hash

        def hashed(text: str) -> str:
            busy.append(store().engine.pool.checkedout())  # type: ignore[attr-defined]
            return real(text)

        with patch.object(sealing._hasher, "hash", hashed):
            before = store().engine.pool.checkedout()  # type: ignore[attr-defined]
            set_values(house.scope, person, {"word": "open sesame"})
        self.assertEqual(busy, [before])


class Structured(unittest.TestCase):
    def test_checked_against_its_schema(self) -> None:
        house = make_house()
        schema = '{"type": "object", "required": ["rain"], "properties": {"rain": {"type": "number"}}}'
        create_field(
            house.scope,
            house.group_id(),
            FieldInput(label="Weather", type_key="structured", settings={"json_schema": schema}),
        )
        person = house.add()
        set_values(house.scope, person, {"weather": '{"rain": 3}'})
        for wrong in ('{"rain": "much"}', "{}", "[", "7"):
            with self.subTest(wrong), self.assertRaises(InvalidInput) as caught:
                set_values(house.scope, person, {"weather": wrong})
            self.assertIn("weather", caught.exception.messages)
        create_derived(house.scope, DerivedInput(label="Again", formula="weather", group_id=house.group_id()))
        profile = read_profile(house.scope, person)
        lines = {line.field.key: line.shown for _, found in profile.groups for line in found}
        self.assertEqual(lines["again"], lines["weather"])
        self.assertIn("rain", "".join(export_segment(house.scope, create_segment(house.scope, "All"))[1]))
        for schema in ('{"type": "nonsense"}', "[", '{"$ref": "http://elsewhere.example/schema"}'):
            with self.subTest(schema), self.assertRaises(InvalidInput):
                create_field(
                    house.scope,
                    house.group_id(),
                    FieldInput(label="W", type_key="structured", settings={"json_schema": schema}),
                )


if __name__ == "__main__":
    unittest.main()
