"""A small workspace for a test: made through the services, apart from every other test's."""

import itertools
import os
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from finesieve.services.accounts.staff import NewWorkspace, SignedIn, StaffAccounts
from finesieve.services.define.fields import FieldInput, make_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.scope import Role, Scope
from finesieve.services.values.writing import add_person
from tests.support.database import store

NOW = datetime(2026, 11, 25, 10, 30, tzinfo=UTC)
_numbers = itertools.count(1)

FIELDS = (
    FieldInput(label="Zone", type_key="choice", options="North\nHill\nSouth"),
    FieldInput(label="Plot length", type_key="number", unit="m"),
    FieldInput(label="Plot width", type_key="number", unit="m"),
    FieldInput(label="Born", type_key="date"),
    FieldInput(label="Swaps seed", type_key="yes_no"),
    FieldInput(label="Favourite", type_key="short_text"),
)


@dataclass(frozen=True)
class House:
    """A workspace with its owner's scope."""

    slug: str
    email: str
    scope: Scope

    def field_id(self, key: str) -> int:
        return read_catalogue(self.scope).by_key[key].id

    def group_id(self) -> int:
        return read_catalogue(self.scope).groups[0].id

    def as_role(self, role: Role, actor: str = "Somebody else") -> Scope:
        return replace(self.scope, role=role, actor=actor)

    def add(self, **values: object) -> int:
        """Add a person; an email is made up where none is given."""
        values.setdefault("email", f"person{next(_numbers)}@hedgerow.example")
        with self.scope.transaction("clerk") as unit:
            return add_person(unit, values, "import")  # type: ignore[arg-type]


PASSWORD = "a long enough secret"


def next_number() -> str:
    """A number that no other test of this run has."""
    return f"{os.getpid()}-{next(_numbers)}"


def make_house(*, fields: bool = True) -> House:
    """A workspace of its own; the clock stands at NOW."""
    number = next_number()
    accounts = StaffAccounts(store(), lambda: NOW, fast_hashes=True)
    email = f"staff{number}@brackenfold.example"
    staff_id = accounts.add_staff(email, "Maud Ellery", PASSWORD)
    slug = accounts.create_workspace(NewWorkspace(name=f"House {number}"), staff_id)
    house = House(slug, email, accounts.enter(slug, SignedIn(staff_id, "Maud Ellery", "")).scope)
    if fields:
        with house.scope.transaction("editor") as unit:  # all at once, since nearly every test begins here
            for asked in FIELDS:
                make_field(unit, unit.catalogue.groups[0], asked, asked.read_options())
    return house
