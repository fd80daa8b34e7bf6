"""Member pages as people read them."""

from dataclasses import dataclass

from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.language.evaluator import compile_python
from finesieve.core.pages.definition import MemberPage
from finesieve.core.pages.reading import ReadBlock, Reader, read_page
from finesieve.services.kernel.scope import Clock, Scope, Unit, public_scope
from finesieve.services.values.writing import row_of
from finesieve.store.connection.database import Store
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import PageRow, PageVersion, Segment

__all__ = ["PageOpened", "PublicPages", "blocks_for", "may_read", "reader_of"]


def reader_of(unit: Unit, person_id: int) -> Reader:
    """Somebody as a page reads them; nobody, for whom all is blank, for 0. Raises NotFound."""
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id) if person_id else {}
    if stored is None:
        raise NotFound("There is no such person.")
    if not person_id:
        stored = dict.fromkeys(one.key for one in unit.catalogue.stored) | {"tags": (), "lists": (), "level": None}
    row = row_of(unit, PERSON, person_id, stored)
    level = next((one for one in unit.catalogue.levels if one.key == stored.get("level")), None)
    brings = {}
    if level is not None:
        kept = stored_row(unit.session, unit.definitions, LEVEL, level.id) or {}
        of_level = row_of(unit, LEVEL, level.id, kept)
        brings = {key: of_level.get(key) for key in unit.catalogue.keys_of(LEVEL)}
    return Reader(row, brings)


def may_read(unit: Unit, page: MemberPage, reader: Reader, person_id: int) -> bool:
    """Whether a page is for somebody; 0 for nobody who is signed in."""
    if page.audience == "public":
        return True
    if not person_id:
        return False
    if page.audience == "levels":
        allowed = {one.key for one in unit.catalogue.levels if one.id in page.levels}
        return reader.row.get("level") in allowed
    if page.audience == "segment":
        segment = unit.session.get(Segment, page.segment)
        typed = unit.catalogue.check(segment.expression, "yes_no").typed if segment and segment.expression else None
        return segment is not None and (
            not segment.expression or (typed is not None and compile_python(typed)(reader.row, unit.moment) is True)
        )
    return True


def blocks_for(unit: Unit, page: MemberPage, reader: Reader) -> tuple[ReadBlock, ...]:
    """The blocks of a page that somebody sees."""
    return tuple(read_page(page, unit.catalogue, reader, unit.moment))


@dataclass(frozen=True, slots=True)
class PageOpened:
    """A page that somebody has opened."""

    house: str
    language: str
    title: str
    blocks: tuple[ReadBlock, ...]


class PublicPages:
    """The member pages of all workspaces, by the short name of each."""

    def __init__(self, store: Store, clock: Clock) -> None:
        self._store, self._clock = store, clock

    def open(self, slug: str, page_slug: str, person_id: int) -> PageOpened | None:
        """A page in force, for somebody, 0 for nobody who is signed in; None where it is not for them.

        Raises NotFound for no such page.
        """
        scope, house = self._scope(slug)
        with scope.reading("public") as unit:
            query = select(PageRow).where(col(PageRow.slug) == page_slug, col(PageRow.published) > 0)
            row = unit.session.exec(query).first()
            version = unit.session.get(PageVersion, (row.id, row.published)) if row is not None else None
            if version is None:
                raise NotFound("There is no such page.")
            page, reader = MemberPage.model_validate(version.document), reader_of(unit, person_id)
            if not may_read(unit, page, reader, person_id):
                return None
            return PageOpened(house, unit.manner.language, page.title, blocks_for(unit, page, reader))

    def for_whom(self, slug: str, person_id: int) -> tuple[tuple[str, str], ...]:
        """The pages in force that somebody may read, as (short name, title)."""
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            on = (col(PageVersion.page_id) == col(PageRow.id)) & (col(PageVersion.number) == col(PageRow.published))
            rows = unit.session.exec(select(PageRow, PageVersion).join(PageVersion, on).order_by(col(PageRow.id))).all()
            if not rows:
                return ()
            reader = reader_of(unit, person_id)
            documents = ((row.slug, MemberPage.model_validate(version.document)) for row, version in rows)
            return tuple((name, page.title) for name, page in documents if may_read(unit, page, reader, person_id))

    def _scope(self, slug: str) -> tuple[Scope, str]:
        return public_scope(self._store, slug, self._clock)
