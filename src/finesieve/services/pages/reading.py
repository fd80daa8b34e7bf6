"""Member pages as people read them."""

from dataclasses import dataclass
from typing import Final

from sqlalchemy import bindparam
from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.language.evaluator import compile_python
from finesieve.core.model.reader import Reader
from finesieve.core.pages.definition import MemberPage
from finesieve.core.pages.reading import PreparedPage, ReadBlock
from finesieve.core.values import StoredFile
from finesieve.services.kernel.scope import Clock, Scope, Unit, public_scope
from finesieve.services.people.messages import brings_of
from finesieve.services.values.files import OpenedFile
from finesieve.services.values.writing import row_of
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import PageRow, PageVersion, Segment

__all__ = ["PageOpened", "PublicPages", "blocks_for", "may_read", "reader_of"]


_MOST_KEPT: Final = 128
# Made once, since putting a statement together costs as much again as the database does.
_IN_FORCE: Final = select(PageRow.id, PageRow.published).where(
    col(PageRow.slug) == bindparam("slug"), col(PageRow.published) > 0
)


def reader_of(unit: Unit, person_id: int) -> Reader:
    """Somebody as a page reads them; nobody, for whom all is blank, for 0. Raises NotFound."""
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id) if person_id else {}
    if stored is None:
        raise NotFound("There is no such person.")
    if not person_id:
        stored = dict.fromkeys(one.key for one in unit.catalogue.stored) | {"tags": (), "lists": (), "level": None}
    row = row_of(unit, PERSON, person_id, stored)
    slug = unit.workspace.slug
    return Reader(
        row, brings_of(unit, stored.get("level")), lambda key: f"/account/{slug}/link/{key}" if person_id else ""
    )


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
        typed = unit.catalogue.check_segment(segment.expression).typed if segment and segment.expression else None
        return segment is not None and (
            not segment.expression or (typed is not None and compile_python(typed)(reader.row, unit.moment) is True)
        )
    return True


def blocks_for(unit: Unit, page: MemberPage, reader: Reader) -> tuple[ReadBlock, ...]:
    """The blocks of a page that somebody sees."""
    return tuple(PreparedPage(page, unit.catalogue).read(reader, unit.moment))


@dataclass(frozen=True, slots=True)
class PageOpened:
    """A page that somebody has opened."""

    house: str
    language: str
    title: str
    blocks: tuple[ReadBlock, ...]


class PublicPages:
    """The member pages of all workspaces, by the short name of each."""

    def __init__(self, store: Store, clock: Clock, files: FileStore | None = None) -> None:
        self._store, self._clock, self._files = store, clock, files
        self._kept: dict[tuple[int, int, int, int], PreparedPage] = {}

    def open(self, slug: str, page_slug: str, person_id: int) -> PageOpened | None:
        """A page in force, for somebody, 0 for nobody who is signed in; None where it is not for them.

        Raises NotFound for no such page.
        """
        scope, house = self._scope(slug)
        with scope.reading("public") as unit:
            prepared, reader = self._in_force(unit, page_slug), reader_of(unit, person_id)
            page = prepared.page
            if not may_read(unit, page, reader, person_id):
                return None
            blocks = tuple(prepared.read(reader, unit.moment))
            return PageOpened(house, unit.manner.language, page.title, blocks)

    def picture(self, slug: str, page_slug: str, key: str, person_id: int) -> OpenedFile:
        """A picture of the house that stands on a page which somebody may read. Raises NotFound."""
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            page, reader = self._in_force(unit, page_slug).page, reader_of(unit, person_id)
            shown = may_read(unit, page, reader, person_id) and key in {one.picture for one in page.blocks}
            value = (
                unit.moment.house.get(key) if shown and (HOUSE, key) not in unit.catalogue.not_for_the_person else None
            )
            found = (
                self._files.read(scope.workspace_id, value.digest)
                if isinstance(value, StoredFile) and self._files
                else None
            )
            if not isinstance(value, StoredFile) or found is None:
                raise NotFound("There is no such picture.")
            return OpenedFile(value, found)

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

    def _in_force(self, unit: Unit, page_slug: str) -> PreparedPage:
        """The page of a short name, compiled; kept for as long as neither it nor the definitions change."""
        found = unit.session.execute(_IN_FORCE, {"slug": page_slug}).first()
        if found is None:
            raise NotFound("There is no such page.")
        key = (unit.workspace_id, unit.catalogue.version, found[0], found[1])
        if key not in self._kept:
            version = unit.session.get_one(PageVersion, tuple(found))
            while len(self._kept) >= _MOST_KEPT:
                self._kept.pop(next(iter(self._kept)), None)
            self._kept[key] = PreparedPage(MemberPage.model_validate(version.document), unit.catalogue)
        return self._kept[key]

    def _scope(self, slug: str) -> tuple[Scope, str]:
        return public_scope(self._store, slug, self._clock)
