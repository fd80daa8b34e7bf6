"""Who does something, in which workspace, at what time."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Final, Literal

from sqlmodel import Session

from finesieve.core.errors import NotAllowed, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.fields.manner import Manner
from finesieve.core.language.evaluator import Moment
from finesieve.core.model.catalogue import Catalogue, Group
from finesieve.store.connection.database import Store, apart, remembered
from finesieve.store.definitions.catalogue import Definitions, load_definitions
from finesieve.store.definitions.entering import enter_by_slug
from finesieve.store.reading.house import HouseNow
from finesieve.store.tables import Workspace
from finesieve.store.values.kept_fields import MOMENT

__all__ = ["ROLES", "Clock", "Role", "Scope", "Unit", "public_scope", "reload", "utc_now"]

Role = Literal["public", "reader", "clerk", "editor", "owner"]
ROLES: Final[tuple[Role, ...]] = ("public", "reader", "clerk", "editor", "owner")
"""From the least to the most; each may do all that those before it may."""

Clock = Callable[[], datetime]


def utc_now() -> datetime:
    """The time, for everything but tests."""
    return datetime.now(UTC)


@dataclass(frozen=True, slots=True)
class Unit:
    """One transaction in one workspace: its session, definitions and moment, and for whom it is made."""

    session: Session
    definitions: Definitions
    moment: Moment
    actor: str
    role: Role

    def sees(self, one: Field | Group) -> bool:
        """Whether this role may see the values of a field, or of any in a group.

        What is worked out from something one may not see, one may not see either.
        """
        return self.edits or self.open_to_all(one)

    def open_to_all(self, one: Field | Group) -> bool:
        """Whether every role may see it; so it may stand in what all read, such as the history of a person."""
        group = one if isinstance(one, Group) else self.catalogue.groups_by_id.get(one.group_id)
        hidden = isinstance(one, Field) and (one.about, one.key) in self.catalogue.for_editors
        return not hidden and (group is None or group.settings.seen_by != "editors")

    @property
    def edits(self) -> bool:
        """Whether this is an editor or owner."""
        return ROLES.index(self.role) >= ROLES.index("editor")

    @property
    def visible(self) -> Catalogue:
        """The catalogue by which this role's own expressions are checked: a name they may not see is none."""
        return self.catalogue if self.edits else self.catalogue.as_others_know_it

    @property
    def catalogue(self) -> Catalogue:
        return self.definitions.catalogue

    @property
    def manner(self) -> Manner:
        """How the house writes."""
        return self.definitions.catalogue.manner

    @property
    def workspace_id(self) -> int:
        return self.definitions.workspace_id

    @property
    def workspace(self) -> Workspace:
        """The workspace itself, as this transaction sees it."""
        return self.session.get_one(Workspace, self.workspace_id)


@dataclass(frozen=True, slots=True)
class Scope:
    """What every service takes: the store, the workspace, who acts and in what role, and the clock."""

    store: Store
    workspace_id: int
    actor: str
    role: Role
    clock: Clock = utc_now

    def may(self, role: Role) -> bool:
        """Whether this role, or one that may more, is held."""
        return ROLES.index(self.role) >= ROLES.index(role)

    def need(self, role: Role) -> None:
        """Raise NotAllowed for somebody of less than this role."""
        if not self.may(role):
            raise NotAllowed(f"This needs the role {role}; yours is {self.role}.")

    @contextmanager
    def transaction(self, role: Role) -> Iterator[Unit]:
        """One transaction for somebody of at least this role. Raises NotAllowed for others.

        Within another of the same scope it is a part of that one: done with it, or by itself not at all.
        """
        self.need(role)
        whole = self._under_way
        if whole is not None:
            with apart(whole.session):
                yield reload(whole)
            return
        with self.separate(role) as unit:
            before = _command.set((self, unit))
            try:
                yield unit
            finally:
                _command.reset(before)

    @contextmanager
    def separate(self, role: Role) -> Iterator[Unit]:
        """A transaction of its own, whatever else is under way. Raises NotAllowed as `transaction` does."""
        self.need(role)
        with self.store.transaction() as session:
            yield self._unit(session)

    @contextmanager
    def reading(self, role: Role) -> Iterator[Unit]:
        """For what only reads: the transaction of the request, or the one under way. Raises NotAllowed for others."""
        self.need(role)
        whole = self._under_way
        if whole is not None:
            yield reload(whole)
            return
        with self.store.reading(self.workspace_id) as session:
            units: dict[Scope, Unit] = session.info.setdefault(_UNITS, {})
            if self not in units:
                units[self] = self._unit(session)
            yield units[self]

    @property
    def _under_way(self) -> Unit | None:
        scope, unit = _command.get() or (None, None)
        return unit if scope == self else None

    def _unit(self, session: Session) -> Unit:
        definitions = load_definitions(session, self.workspace_id)
        now, zone = self.clock(), definitions.catalogue.zone
        moment = Moment(now, zone, HouseNow(session, definitions, now, zone), definitions.catalogue.manner)
        session.info[MOMENT] = moment
        return Unit(session, definitions, moment, self.actor, self.role)


def public_scope(store: Store, slug: str, clock: Clock) -> tuple[Scope, str]:
    """What the public pages act in, by the short name of a workspace, and the name of the house. Raises NotFound."""
    with store.reading() as session:
        # Several things on one page ask for it; whoever then reads in it enters it, or finds it entered.
        workspace = remembered(session, ("workspace", slug), lambda: enter_by_slug(session, slug))
    if workspace is None:
        raise NotFound("There is no such page.")
    return Scope(store, workspace.id or 0, "the person", "public", clock), workspace.name


_UNITS: Final = "finesieve.units"
_command: ContextVar[tuple[Scope, Unit] | None] = ContextVar("command", default=None)
"""The command whose transaction is under way, if one is."""


def reload(unit: Unit) -> Unit:
    """The unit with definitions as they stand after changes in its own transaction."""
    unit.session.flush()
    return replace(unit, definitions=load_definitions(unit.session, unit.workspace_id))
