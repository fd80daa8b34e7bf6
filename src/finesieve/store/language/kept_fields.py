"""Derived fields whose values are kept: which can be, what theirs rest on, and the table in which they stand."""

from collections.abc import Iterator
from functools import lru_cache
from hashlib import sha256
from typing import Final

from sqlalchemy import BigInteger, Column, MetaData, Table
from sqlmodel import Session

from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.typed import OF_HISTORY, Typed, unplaced
from finesieve.core.model.catalogue import Catalogue
from finesieve.store.definitions.catalogue import Definitions, KeptValues, schema_name
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.definitions.state import has_changed

__all__ = ["kept_table", "kept_values", "reads_of", "rests_on", "why_not_kept"]


def why_not_kept(catalogue: Catalogue, key: str) -> str:
    """Why the values of a derived field of people cannot be kept, as a sentence; "" where they can."""
    if key not in catalogue.derivation.formulas:
        return "It cannot be worked out."
    for typed in _formulas(catalogue, key):
        if typed.volatile:
            return "It changes by itself from day to day, so kept values would soon be out of date."
        for part in typed.walk():
            if part.operation in OF_HISTORY:
                return "It reads how values have changed."
            if part.operation == "collect" and part.about == PERSON:
                return "It reads everybody."
            if part.operation == "house" and part.name in catalogue.derivation_of(HOUSE).formulas:
                label = catalogue.keys_of(HOUSE)[part.name].label
                return f"It reads {label} of the house, which is worked out itself."
    return ""


def _formulas(catalogue: Catalogue, key: str) -> Iterator[Typed]:
    """The formula of a person's field and those of all that it reads, of records too."""
    for about, name in reads_of(catalogue, key):
        formula = catalogue.derivation_of(about).formulas.get(name)
        if formula is not None:
            yield formula


def reads_of(catalogue: Catalogue, key: str) -> tuple[tuple[str, str], ...]:
    """All that a person's derived field reads, itself first, over however many steps: about what, and the key;
    a collection as what its members are, and ""."""
    place = ("reads of", key)
    if place not in catalogue.remembered:
        catalogue.remembered[place] = _all_read(catalogue, key)
    return catalogue.remembered[place]  # type: ignore[no-any-return]  # what was read for this key


def _all_read(catalogue: Catalogue, key: str) -> tuple[tuple[str, str], ...]:
    found: dict[tuple[str, str], None] = {(PERSON, key): None}
    waiting = [(PERSON, key)]
    while waiting:
        about, name = waiting.pop()
        formula = catalogue.derivation_of(about).formulas.get(name)
        for read in sorted(formula.reads) if formula is not None else ():
            if read not in found:
                found[read] = None
                waiting.append(read)
    return tuple(found)


def _says(catalogue: Catalogue, key: str) -> str:
    """All that the values of a field rest on by definition: formulas, and where and how stored values stand."""
    said = [repr(unplaced(formula)) for formula in _formulas(catalogue, key)]
    for about, name in reads_of(catalogue, key):
        field = catalogue.keys_of(about).get(name)
        if field is not None and field.stores:
            said.append(repr((about, field.column, field.value_type)))
    return sha256("\0".join(said).encode(errors="surrogatepass")).hexdigest()


def rests_on(catalogue: Catalogue, key: str, moment: Moment) -> str:
    """What the values of a person's derived field rest on besides those of people, records, orders and levels: the
    same text while they stay true."""
    place = ("rests on", key)
    if place not in catalogue.remembered:
        catalogue.remembered[place] = _says(catalogue, key)
    house = sorted(name for about, name in reads_of(catalogue, key) if about == HOUSE and name)
    values = "".join(f"{name} {moment.house.get(name)!r}\0" for name in house)
    return sha256(f"{catalogue.remembered[place]} {moment.zone} {values}".encode(errors="surrogatepass")).hexdigest()


_VALUE: Final = "value"


@lru_cache(maxsize=500)
def _table(workspace_id: int, field_id: int, generation: int, kind: str) -> Table:
    columns = (Column("id", BigInteger, primary_key=True), Column(_VALUE, SQL_TYPES[kind]))  # type: ignore[index]
    return Table(f"kept_{field_id}_{generation}", MetaData(schema=schema_name(workspace_id)), *columns)


def kept_table(definitions: Definitions, field_id: int, generation: int) -> Table:
    """The table of the kept values of a field: `id` of the person, `value`."""
    kind = definitions.catalogue.by_id[field_id].value_type.kind
    return _table(definitions.workspace_id, field_id, generation, kind)


def kept_values(session: Session, definitions: Definitions, names: frozenset[str], moment: Moment) -> dict[str, Table]:
    """Of these names of a person, those whose kept values can stand for them now, with their tables."""
    # What this transaction has changed itself follows at its end only.
    if not definitions.kept or has_changed(session, definitions.workspace_id):
        return {}
    found: dict[str, KeptValues] = {key: one for key, one in definitions.kept.items() if key in names and one.ready}
    return {
        key: kept_table(definitions, one.field_id, one.generation)
        for key, one in found.items()
        if key in definitions.catalogue.derivation.formulas
        and rests_on(definitions.catalogue, key, moment) == one.meaning
    }
