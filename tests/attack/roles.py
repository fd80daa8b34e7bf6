"""Every role on every route that evaluates, after what only editors see."""

import re
from datetime import timedelta
from decimal import Decimal
from functools import cache

from sqlmodel import col, select

from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.kernel.scope import Role
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.values.house import set_house_value
from finesieve.store.connection.database import Store
from finesieve.store.tables import Membership, Staff
from tests.attack.count import Count
from tests.attack.posts import Form, forms_of
from tests.support.database import store
from tests.support.furnished import Furnished, routes
from tests.support.house import NOW, House
from tests.support.site import Office

NUMBER, WORD, PRICE = "86421", "Quillmarrow", "97531"
"""What only editors may ever read: of a person, of the house."""
SECRETS = re.compile("|".join((NUMBER, f"{NUMBER[:2]},{NUMBER[2:]}", "86422", WORD, PRICE)), re.IGNORECASE)
EXPRESSIONS = (
    "zzdebt", "zzdebt + 1", "text(zzdebt)", "zzdebt > 80000", "zzdebt is blank", "zzname", "upper(zzname)", "house.zzprice",
    "zzafter", "zzafter * 1", 'if zzname = "Quill" then 1 else 2', "house.zzprice + plot_length",
)  # fmt: skip
"""What a prying person asks; each names something unknown to them."""


class Secretive(Furnished):
    """A furnished house with a number, a word, a price and what is computed of them, for editors only."""

    def __init__(self) -> None:
        super().__init__()
        scope = self.house.scope
        close = create_group(scope, GroupInput(name="Kept close", seen_by="editors"))
        for key, kind in (("zzdebt", "number"), ("zzname", "short_text")):
            create_field(scope, close, FieldInput(label=key, key=key, type_key=kind, settings={"searchable": True}))
        create_derived(
            scope, DerivedInput(label="zzafter", key="zzafter", formula="zzdebt + 1", group_id=self.house.group_id())
        )
        prices = create_group(scope, GroupInput(name="Prices", about="house", seen_by="editors"))
        price = create_field(scope, prices, FieldInput(label="zzprice", key="zzprice", type_key="number"))
        set_house_value(scope, price, PRICE)
        self.person = self.house.add(email="owing@hedgerow.example", zzdebt=Decimal(NUMBER), zzname=WORD)
        self.segment = create_segment(scope, "Owing")
        asked = SegmentInput(name="Owing", expression="zzdebt > 80000")
        change_segment(scope, self.segment, read_segment(scope, self.segment).revision, asked)


def as_role(house: House, role: Role) -> Office:
    """A browser of the house's one staff member, with another role."""
    with Store(store().engine).transaction() as session:
        staff_id = session.exec(select(Staff.id).where(col(Staff.email) == house.email)).one()
        member = session.get(Membership, (house.scope.workspace_id, staff_id))
        assert member is not None
        member.role = role
    return Office(house)


@cache
def _secretive() -> Secretive:
    """The one house that everybody pries into: those who may do little change nothing for the next."""
    return Secretive()


@cache
def _their_forms() -> list[Form]:
    return forms_of(as_role(_secretive().house, "owner"), _secretive())


def prying(role: Role, share: int = 1) -> Count:
    """Every page, and every form that takes an expression, with names one may not see; nothing of them may show.

    Each input is asked one in `share` of the expressions, in turn; 0 for pages only.
    What is answered about a name that one may not see is what is answered about a name that nothing has.
    """
    count, furnished = Count(f"prying, as {role}"), _secretive()
    forms = _their_forms() if share else []
    office = as_role(furnished.house, role)
    for method, path in routes():
        if method == "GET":
            answer = office.client.get(furnished.address(path))
            count.end(answer.status_code, _shown(f"GET {path}", answer.text))
    inputs = [(form, name) for form in forms for name, _ in form.inputs if _takes_an_expression(name)]
    for place, (form, name) in enumerate(inputs):
        for expression in EXPRESSIONS[place % share :: share]:
            _ask(count, office, form, name, expression)
    return count


def _takes_an_expression(name: str) -> bool:
    return bool(
        re.search(
            r"formula|expression|^show_|required_when$|^when[0-9]+$|text$|^text_|^costs$|^moving$|search|^q$", name
        )
    )


def _ask(count: Count, office: Office, form: Form, name: str, expression: str) -> None:
    data = {**dict(form.inputs), "csrf": office.csrf}
    known = office.client.post(form.action, data={**data, name: expression})
    unknown = office.client.post(form.action, data={**data, name: expression.replace("zz", "yy")})
    said = f"{form.action} {name}={expression}"
    wrong = _shown(said, known.text.replace(expression, ""))
    if not wrong and known.status_code != unknown.status_code:
        wrong = f"{said}: {known.status_code}, but {unknown.status_code} for a name that nothing has"
    count.end(known.status_code, wrong)


def _shown(said: str, text: str) -> str:
    found = SECRETS.search(text)
    return f"{said}: shows {found[0]}" if found else ""


def tokens() -> Count:
    """Tokens of every kind, whole, broken, ended and in each other's places; none opens what it is not for."""
    from finesieve.services.kernel.links import ENDS, Links

    count, furnished = Count("tokens"), Furnished()
    office, links = Office(furnished.house), Links("a secret of the tests")
    other = Links("another secret")
    base = f"/join/{furnished.house.slug}/join-us"
    places = (
        ("thanks", "sent", "sent"),
        ("confirm", "letter", "answers"),
        ("address", "letter", "address"),
        ("", "me", "me"),
    )
    for place, parameter, kind in places:
        given = links.give(kind, NOW, furnished.form, furnished.person)  # type: ignore[arg-type]
        bad = [other.give(kind, NOW, furnished.form, furnished.person), links.give(kind, NOW - ENDS[kind] - timedelta(1), 1, 1)]  # type: ignore[arg-type,index]  # fmt: skip
        bad += [links.give(one, NOW, furnished.form, furnished.person) for one in ENDS if one != kind]
        bad += [given[:cut] for cut in range(0, len(given), 3)]
        bad += [given[:at] + chr(ord(given[at]) ^ 1) + given[at + 1 :] for at in range(0, len(given), 2)]
        for token in bad:
            answer = office.client.get(f"{base}/{place}".rstrip("/"), params={parameter: token})
            shown = "Their" in answer.text or answer.status_code >= 500
            count.end(answer.status_code, f"{place} {parameter}={token}" if shown else "")
    for cut in range(0, 120, 2):
        for token in (office.csrf[:cut], office.csrf[:cut] + "A" + office.csrf[cut + 1 :]):
            if token != office.csrf:
                answer = office.client.post(office.path("collect/new"), data={"csrf": token, "name": "X"})
                count.end(answer.status_code, "" if answer.status_code == 403 else f"csrf {token}")
    return count
