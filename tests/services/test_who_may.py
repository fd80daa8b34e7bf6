"""Who sees and who changes what: every kind of person, field and way in, against a table worked out by hand."""

import json
import unittest
from collections.abc import Callable

from finesieve.core.errors import InvalidInput, NotAllowed
from finesieve.services.accounts.members import MemberAccounts, SignedInMember
from finesieve.services.define.approval import change_approval
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, change_group, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, set_person_level
from finesieve.services.filling.approval import APPROVAL, as_asked
from finesieve.services.filling.decisions import ask_for, decide, waiting_for
from finesieve.services.filling.open_form import OpenForm, Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.composing import FormTexts, add_question, change_form_texts
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.people.personal_links import give_link
from finesieve.services.people.profiles import read_profile, set_values
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.shop import SECRET

FIELDS = ("anyone", "staff", "once", "stewards", "grouped", "freed", "private", "desk", "editors")
# s: sees the value that is kept; c: changes it; a dot: neither. Roles of people change nothing of it.
TABLE = """
                            anyone staff once stewards grouped freed private desk editors
sign-up  stranger           c      .     .    .        .       c     .       .    .
link     none     private   sc     s     s    s        s       sc    .       .    .
link     sower    trade     sc     s     s    s        s       sc    .       .    .
link     steward  private   sc     s     s    sc       sc      sc    .       .    .
link     steward  trade     sc     s     s    sc       sc      sc    .       .    .
account  none     trade     sc     s     s    s        s       sc    .       .    .
account  sower    private   sc     s     s    s        s       sc    .       .    .
account  steward  trade     sc     s     s    sc       sc      sc    .       .    .
text     steward  private   s      s     s    s        s       s     .       .    .
message  steward  private   s      s     s    s        s       s     .       .    .
download steward  private   s      s     s    s        s       s     .       .    .
office   reader             s      s     s    s        s       s     s       s    .
office   clerk              sc     sc    s    sc       sc      sc    sc      sc   .
office   editor             sc     sc    s    sc       sc      sc    sc      sc   sc
"""


class Matrix(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.house = make_house()
        cls.scope, cls.slug = cls.house.scope, cls.house.slug
        cls.levels = {
            name: create_membership(cls.scope, "level", MembershipInput(name=name.capitalize()))
            for name in ("sower", "steward")
        }
        use_part(cls.scope, "work")
        desk, editors, growing = (
            create_group(cls.scope, GroupInput(name=name)) for name in ("Desk", "Editors", "Growing")
        )
        groups = {"desk": desk, "editors": editors, "grouped": growing, "freed": growing}
        cls.ids = {
            key: create_field(
                cls.scope, groups.get(key, cls.house.group_id()), FieldInput(label=key.title(), key=f"f_{key}")
            )
            for key in FIELDS
        }
        cls.form, cls.account = create_form(cls.scope, "Join us"), create_account_form(cls.scope, "Your account")
        said = " ".join(f"{key}={{f_{key}}}" for key in FIELDS)
        for form in (cls.form, cls.account):
            for field in cls.ids.values():
                cls.do(form, add_question, field)
        cls.do(cls.form, change_form_texts, FormTexts(title="Join us", intro=said))
        for form in (cls.form, cls.account):
            cls.do(form, publish_form)
        change_approval(cls.scope, "", {"approved": said}, "")
        create_personal_link(cls.scope, PersonalLinkInput(name="Mine", form=cls.form))
        # All were open to anybody when they were asked: what is set now counts nevertheless.
        for key, settings in (
            ("staff", {"change_by": "staff"}),
            ("once", {"change_by": "once"}),
            ("stewards", {"change_by": "levels", "change_levels": [cls.levels["steward"]]}),
            ("freed", {"change_by": "anyone"}),
            ("private", {"private": True}),
        ):
            change_field(cls.scope, cls.ids[key], FieldInput(label=key.title(), settings=settings))
        growing_asked = GroupInput(name="Growing", change_by="levels", change_levels="steward")
        change_group(cls.scope, growing, growing_asked)
        change_group(cls.scope, desk, GroupInput(name="Desk", seen_by="staff"))
        change_group(cls.scope, editors, GroupInput(name="Editors", seen_by="editors"))
        cls.forms = PublicForms(store(), lambda: NOW, SECRET)
        cls.members = MemberAccounts(store(), lambda: NOW, SECRET, fast_hashes=True)

    @classmethod
    def do(cls, form: int, change, *rest):  # type: ignore[no-untyped-def]
        return change(cls.scope, form, read_draft(cls.scope, form).revision, *rest)

    def somebody(self, level: str, role: str) -> int:
        """Somebody of whom all is known."""
        person = self.house.add(**{f"f_{key}": f"old {key}" for key in FIELDS}, role=role)
        if level in self.levels:
            set_person_level(self.scope, person, level)
        return person

    def kept(self, person: int, key: str) -> str:
        lines = [line for _, found in read_profile(self.scope, person).groups for line in found]
        return next(line.shown for line in lines if line.field.key == f"f_{key}")

    def mail(self, person: int) -> str:
        lines = [line for _, found in read_profile(self.scope, person).groups for line in found]
        return next(line.shown for line in lines if line.field.key == "email")

    def on_form(self, slug: str, visit: Visit, person: int) -> tuple[set[str], set[str]]:
        """Which values a form shows to somebody, and which sending it changes."""
        signed_in = visit.person
        opened = self.forms.open(self.slug, slug, visit)
        shown = {key for key in FIELDS if f"old {key}" in self.drawn(opened)}
        answers = self.answers(self.account if slug == "your-account" else self.form, person)
        asked = frozenset(one.id for one in opened.outcome.walk())
        sent = self.forms.send(self.slug, slug, opened.token, answers, asked, person=signed_in)
        self.assertTrue(sent.sent, sent.outcome.troubles)
        return shown, {key for key in FIELDS if self.kept(person, key) == f"new {key}"}

    def answers(self, form: int, person: int) -> dict[str, str]:
        """New values for all fields, whether or not the form still asks them, and the email as it is."""
        asked = {one.field_id: one.id for one in read_form(self.scope, form).document.questions}
        return {
            **{asked[field]: f"new {key}" for key, field in self.ids.items()},
            asked[self.house.field_id("email")]: self.mail(person),
        }

    @staticmethod
    def drawn(opened: OpenForm) -> str:
        """All that the page could say of what is kept."""
        said = [f"{one.raw}|{one.field.show(one.stored)}" for one in opened.outcome.walk() if one.shows or one.locked]
        return "|".join([*said, opened.form.intro])

    # The ways in

    def sign_up(self, _level: str, _role: str) -> tuple[set[str], set[str]]:
        """Whoever types a known email sees nothing, and changes what its owner may, once they have said so."""
        person = self.somebody("sower", "private")
        opened = self.forms.open(self.slug, "join-us")
        seen = {key for key in FIELDS if f"old {key}" in self.drawn(opened)}
        answers = self.answers(self.form, person)
        asked = frozenset(one.id for one in opened.outcome.walk())
        self.assertTrue(self.forms.send(self.slug, "join-us", opened.token, answers, asked).sent)
        self.assertEqual([self.kept(person, key) for key in FIELDS], [f"old {key}" for key in FIELDS])
        decide(self.scope, waiting_for(self.scope, person)[0].id, apply=True)
        return seen, {key for key in FIELDS if self.kept(person, key) == f"new {key}"}

    def link(self, level: str, role: str) -> tuple[set[str], set[str]]:
        person = self.somebody(level, role)
        return self.on_form("join-us", Visit(me=give_link(self.scope, person, "mine").partition("me=")[2]), person)

    def own_account(self, level: str, role: str) -> tuple[set[str], set[str]]:
        person = self.somebody(level, role)
        return self.on_form("your-account", Visit(person=person, until=2**40), person)

    def text(self, level: str, role: str) -> tuple[set[str], set[str]]:
        person = self.somebody(level, role)
        opened = self.forms.open(self.slug, "join-us", Visit(person=person, until=2**40))
        return {key for key in FIELDS if f"{key}=old {key}" in opened.form.intro}, set()

    def message(self, level: str, role: str) -> tuple[set[str], set[str]]:
        person = self.somebody("", role)
        with self.scope.transaction("owner") as unit:
            waiting = ask_for(unit, APPROVAL, person, self.form, asked=as_asked({"level": level}, "en")).id or 0
        decide(self.scope, waiting, apply=True)
        body = read_outbox(self.scope).letters[0].body
        return {key for key in FIELDS if f"{key}=old {key}" in body}, set()

    def download(self, level: str, role: str) -> tuple[set[str], set[str]]:
        person = self.somebody(level, role)
        kept = json.loads(self.members.everything(self.slug, SignedInMember(person, "", 0, 0)))
        return {key for key in FIELDS if f"old {key}" in json.dumps(kept)}, set()

    def office(self, role: str, _role: str) -> tuple[set[str], set[str]]:
        person, scope = self.somebody("sower", "private"), self.house.as_role(role)  # type: ignore[arg-type]  # one of the roles
        lines = [line for _, found in read_profile(scope, person).groups for line in found]
        seen = {key for key in FIELDS if f"old {key}" in {line.shown for line in lines}}
        changed = set()
        for key in FIELDS:
            try:
                set_values(scope, person, {f"f_{key}": f"new {key}"})
                changed.add(key)
            except (InvalidInput, NotAllowed):
                self.assertEqual(self.kept(person, key), f"old {key}")
        return seen, changed

    def test_each_way_in(self) -> None:
        ways: dict[str, Callable[[str, str], tuple[set[str], set[str]]]] = {
            "sign-up": self.sign_up, "link": self.link, "account": self.own_account, "text": self.text,
            "message": self.message, "download": self.download, "office": self.office,
        }  # fmt: skip
        head, *rows = TABLE.strip().split("\n")
        self.assertEqual(tuple(head.split()), FIELDS)
        for row in rows:
            words = row.split()
            way, who = words[0], words[1 : -len(FIELDS)]
            with self.subTest(" ".join((way, *who))):
                seen, changed = ways[way](who[0], who[1] if len(who) > 1 else "private")
                found = [
                    "".join((("s" if key in seen else ""), ("c" if key in changed else ""))) or "." for key in FIELDS
                ]
                self.assertEqual(found, words[-len(FIELDS) :])

    def test_what_is_blank_may_be_said_once_by_anybody_who_is_asked(self) -> None:
        person = self.house.add()
        _, changed = self.on_form("your-account", Visit(person=person, until=2**40), person)
        self.assertEqual(changed, {"anyone", "staff", "once", "stewards", "grouped", "freed"})
        self.assertEqual(read_catalogue(self.scope).by_key["f_once"].settings.change_by, "once")
