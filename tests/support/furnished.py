"""A house with one of everything, and every route with an address in it."""

import re
from collections.abc import Iterator

from sqlmodel import select
from starlette.routing import Route

from finesieve.services.chat.desk import waiting_at_desk
from finesieve.services.chat.holding import PublicChats
from finesieve.services.chat.scripts import create_script, publish_script
from finesieve.services.chat.trying import TrialInput, keep_script_case
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.define.named_checks import create_check
from finesieve.services.define.options import OptionListInput, create_option_list
from finesieve.services.define.record_types import RecordTypeInput, create_record_type, read_record_type
from finesieve.services.define.retyping import begin_type_change
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.cases import keep_case
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.forms.rehearsing import Circumstances
from finesieve.services.pages.editing import create_page, publish_page, save_page
from finesieve.services.people.listing import Listing, save_view
from finesieve.services.people.records import add_record
from finesieve.services.sift.segments import create_segment
from finesieve.services.upkeep.dismissing import dismiss, open_findings
from finesieve.services.values.house import set_house_value
from finesieve.store.tables import Decision, DefinitionChange, HouseSchedule, OrderRow, Submission
from tests.support.database import store
from tests.support.house import NOW, House, make_house
from tests.support.shop import Trade
from tests.support.site import application


class Furnished:
    """A house with one of everything, and the ids for the parameters of addresses."""

    def __init__(self) -> None:
        self.house: House = make_house()
        self.group, self.zone = self.house.group_id(), self.house.field_id("zone")
        scope = self.house.scope
        self.form = create_form(scope, "Join us")
        publish_form(scope, self.form, read_draft(scope, self.form).revision)
        self.segment = create_segment(scope, "Their segment")
        self.derived = create_derived(scope, DerivedInput(label="Their sum", formula="plot_length + 1"))
        self.person = self.house.add(first_name="Their", last_name="Person")
        self.type = create_record_type(scope, RecordTypeInput(singular="Their plot", plural="Their plots"))
        link = read_record_type(scope, self.type).record_type.links[0].id
        self.record = add_record(scope, self.type, {"name": "Their A1"}, {link: [self.person]})
        self.link = link
        asked = PersonalLinkInput(name="Their answers", form=self.form)
        self.personal = create_personal_link(scope, asked)
        self.level = create_membership(scope, "level", MembershipInput(name="Their level"))
        self.options = create_option_list(scope, OptionListInput(name="Their options", options="A\nB"))
        house = create_group(scope, GroupInput(name="Their house", about="house"))
        self.value = create_field(scope, house, FieldInput(label="Their link", type_key="url"))
        set_house_value(scope, self.value, "https://their.example", effective="2030-01-01T00:00")
        self.check = create_check(scope, "Plot code", {"kind": "pattern", "pattern": "[A-F][0-9]+"})
        self.case = keep_case(scope, self.form, "newcomer", Circumstances(), {"q1": "a@hedgerow.example"})
        self.view = save_view(scope, "Growers", Listing(columns=("zone",), sort="zone"))[0]
        self.task = begin_type_change(scope, self.house.field_id("favourite"), "long_text", "", "", {})
        age = create_field(scope, self.house.group_id(), FieldInput(label="Their age", type_key="number"))
        dismiss(scope, "age-kept", age, "", "Meant so.")
        self.dismissed = open_findings(scope).dismissed[0].id
        account = create_account_form(scope, "Their account")
        publish_form(scope, account, read_draft(scope, account).revision)
        self.page = create_page(scope, "Their page")
        document = {"title": "Their page", "audience": "public", "blocks": [{"text": "For {first_name}"}]}
        save_page(scope, self.page, 0, document)
        publish_page(scope, self.page)
        steps = ({"kind": "say", "id": "l1", "texts": [{"text": "Hello"}]}, {"kind": "hand_over", "id": "l2"})
        self.script = create_script(scope, "Their talk", steps)
        publish_script(scope, self.script)
        self.script_case = keep_script_case(scope, self.script, "newcomer", TrialInput())
        PublicChats(store(), lambda: NOW).text(self.house.slug, "+447700900111", "theirs", "t1")
        self.conversation = waiting_at_desk(scope)[0].id
        trade = Trade(self.house)
        self.order_token = trade.order(("packet", "", 3), q1="their.order@hedgerow.example")
        trade.shop().pay(self.house.slug, self.order_token, accepted=True)
        with scope.transaction("owner") as unit:
            sent = Submission(
                workspace_id=unit.workspace_id, form_id=self.form, version=1, key="theirs", person_id=self.person,
                state="stored", answers={"email": "theirs@hedgerow.example", "zone": "hill"}, received_at=NOW,
            )  # fmt: skip
            unit.session.add(sent)
            asked = {"field": unit.catalogue.by_key["zone"].id, "value": "hill"}
            wish = Decision(
                workspace_id=unit.workspace_id,
                kind="asked_change",
                person_id=self.person,
                form_id=self.form,
                asked=asked,
                state="waiting",
                at=NOW,
            )
            unit.session.add(wish)
            unit.session.flush()
            self.decision = wish.id
            self.sending = sent.id
            self.order = unit.session.exec(select(OrderRow.id)).one()
            self.schedule = unit.session.exec(select(HouseSchedule.id)).one()
            self.change = unit.session.exec(select(DefinitionChange.id).order_by(DefinitionChange.id.desc())).first()  # type: ignore[union-attr]

    def parameters(self, path: str) -> dict[str, object]:
        derived = path.startswith("/w/{slug}/compute")
        house = path.startswith("/w/{slug}/define/house")
        return {
            "view_id": self.view,
            "sending_id": self.sending,
            "dismissed_id": self.dismissed,
            "key": "their_sum" if "/steps/" in path else "zone",
            "slug": self.house.slug, "group_id": self.group, "form_id": self.form, "segment_id": self.segment,
            "field_id": self.derived if derived else self.value if house else self.zone, "person_id": self.person,
            "question_id": "q1", "place": 0, "verdict": "passes", "decision_id": self.decision, "workspace": self.house.slug,
            "form_slug": "join-us", "schedule_id": self.schedule, "level_id": self.level, "personal_id": self.personal, "membership_id": self.level,
            "page_name": "levels", "list_id": self.options, "type_id": self.type, "record_id": self.record,
            "link_id": self.link, "task_id": self.task, "change_id": self.change or 0, "row_id": self.person,
            "check_id": self.check, "case_id": self.script_case if "/chat/" in path else self.case, "number": 1, "order_id": self.order, "token": self.order_token,
            "script_id": self.script, "line": "l1", "conversation": self.conversation, "script": "their-talk",
            "paper": "invoice", "page_id": self.page, "page": "their-page",
        }  # fmt: skip

    def address(self, path: str) -> str:
        plain = re.sub(r":\w+", "", path)
        return plain.format(**self.parameters(path))


def routes() -> Iterator[tuple[str, str]]:
    """Method and path of every route, static files apart."""
    for route in _all(application().routes):
        for method in sorted((route.methods or set()) - {"HEAD"}):
            yield method, route.path


def _all(found: object) -> Iterator[Route]:
    for route in found:  # type: ignore[attr-defined]
        if isinstance(route, Route):
            yield route
        elif hasattr(route, "original_router"):
            prefix = route.include_context.prefix if hasattr(route, "include_context") else ""
            assert not prefix
            yield from _all(route.original_router.routes)


OFFICE = [(method, path) for method, path in routes() if path.startswith("/w/")]
