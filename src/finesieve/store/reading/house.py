"""House values as they stand at a moment: stored, due to take effect, or worked out when asked for."""

import logging
from collections.abc import Iterator, Mapping
from contextlib import suppress
from datetime import datetime, tzinfo
from functools import partial
from typing import Final

from sqlalchemy import bindparam, select
from sqlmodel import Session, col

from finesieve.core.errors import FineSieveError
from finesieve.core.fields.about import HOUSE
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Value
from finesieve.store.connection.database import apart
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.by_python import by_python
from finesieve.store.language.compiler import Columns, bound, compile_sql
from finesieve.store.language.sources import members_of_collection
from finesieve.store.reading.kept import kept, meaning
from finesieve.store.reading.rows import HOUSE_ID, stored_row
from finesieve.store.tables import HouseSchedule

__all__ = ["HouseNow"]

_SECONDS: Final = 2
_LASTS: Final = 60
"""For how many seconds a value worked out over everybody serves those who wait for a page."""
# Made once: most pages ask it, and putting a statement together costs as much again as the database does.
_DUE: Final = (
    select(col(HouseSchedule.field_id), col(HouseSchedule.value))
    .where(~col(HouseSchedule.applied), col(HouseSchedule.effective_at) <= bindparam("now"))
    .order_by(col(HouseSchedule.effective_at))
)
_log: Final = logging.getLogger("finesieve.house")


class HouseNow(Mapping[str, Value]):
    """The house values of a workspace, read when the first of them is asked for."""

    def __init__(self, session: Session, definitions: Definitions, now: datetime, zone: tzinfo) -> None:
        self._session = session
        self._definitions = definitions
        self._moment = Moment(now, zone, self, definitions.catalogue.manner)
        self._stored: dict[str, Value] | None = None
        self._computed: dict[str, Value] = {}

    def __getitem__(self, key: str) -> Value:
        formula = self._definitions.catalogue.derivation_of(HOUSE).formulas.get(key)
        if formula is None:
            return self._values[key]
        if key not in self._computed:
            # Should a circle stand after all, it is blank.
            self._computed[key] = None
            try:
                self._computed[key] = self._over_people(key, formula)
            except FineSieveError:
                # What the database cannot work out, or not in time, is blank, and takes no page with it.
                _log.exception("the house value %s cannot be worked out", key)
        return self._computed[key]

    def _over_people(self, key: str, formula: Typed) -> Value:
        def work_out(_known: Definitions) -> Value:
            with apart(self._session, _SECONDS):
                return self.work_out(formula)

        if not any(part.operation == "collect" for part in formula.walk()):
            return work_out(self._definitions)
        place = ("house", key, meaning(self._definitions, [formula], self._moment))
        return kept(self._session, self._definitions, place, work_out, lasts=_LASTS)

    def work_out(self, formula: Typed) -> Value:
        """The value of an expression that stands with the house."""
        names = {name: bound(self.get(name), self._kind(name)) for name in formula.names if name != "people"}
        collect = partial(members_of_collection, self._definitions, self._moment, self._session)
        columns = Columns(names, None, collect, lookup=by_python(self._session))
        value: Value = self._session.execute(select(compile_sql(formula, columns, self._moment))).scalar_one()
        return value

    def _kind(self, key: str) -> Kind:
        return self._definitions.catalogue.keys_of(HOUSE)[key].value_type.kind

    @property
    def _values(self) -> dict[str, Value]:
        if self._stored is None:
            self._stored = stored_row(self._session, self._definitions, HOUSE, HOUSE_ID) or {}
            self._stored |= self._due()
        return self._stored

    def _due(self) -> dict[str, Value]:
        """What has taken effect and is not written into its place yet."""
        found: dict[str, Value] = {}
        for row in self._session.execute(_DUE, {"now": self._moment.now}):
            field = self._definitions.catalogue.by_id.get(row.field_id)
            if field is not None and field.stores:
                with suppress(ValueError):  # of another type than the field has now: it waits for that to be undone
                    found[field.key] = field.from_kept(row.value)
        return found

    def __iter__(self) -> Iterator[str]:
        return iter(self._definitions.catalogue.keys_of(HOUSE))

    def __len__(self) -> int:
        return len(self._definitions.catalogue.keys_of(HOUSE))
