"""Making, changing and publishing member pages; looking at one as somebody, without being them."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.pages.definition import MemberPage
from finesieve.core.pages.reading import PageProblem, ReadBlock, page_problems
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.slugs import free_slug
from finesieve.services.pages.reading import blocks_for, may_read, reader_of
from finesieve.services.values.value_lines import person_name
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.people import page_of_people
from finesieve.store.tables import PageRow, PageVersion, Segment

__all__ = [
    "AsSomebody", "PageEntry", "PageView", "create_page", "delete_page", "list_pages", "publish_page", "read_page_as",
    "read_page_view", "save_page", "withdraw_page",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class PageEntry:
    """A page in a list."""

    id: int
    title: str
    slug: str
    published: int
    unpublished: bool


@dataclass(frozen=True, slots=True)
class PageView:
    """A page with what keeps it from being published; `segments` are those it can be for, by id and name."""

    id: int
    slug: str
    revision: int
    published: int
    unpublished: bool
    document: MemberPage
    problems: tuple[PageProblem, ...]
    segments: tuple[tuple[int, str], ...]
    catalogue: Catalogue


@dataclass(frozen=True, slots=True)
class AsSomebody:
    """A page as somebody reads it; `may` is whether they can open it at all."""

    person_id: int
    name: str
    may: bool
    blocks: tuple[ReadBlock, ...]


def _row(unit: Unit, page_id: int, *, lock: bool = False) -> PageRow:
    row = unit.session.get(PageRow, page_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such page.")
    return row


def _differs(unit: Unit, row: PageRow) -> bool:
    version = unit.session.get(PageVersion, (row.id, row.published)) if row.published else None
    return version is None or version.document != row.draft


def list_pages(scope: Scope) -> list[PageEntry]:
    """All pages, in the order they were made."""
    with scope.reading("reader") as unit:
        rows = unit.session.exec(select(PageRow).order_by(col(PageRow.id))).all()
        return [
            PageEntry(row.id or 0, row.draft["title"], row.slug, row.published, _differs(unit, row)) for row in rows
        ]


def read_page_view(scope: Scope, page_id: int) -> PageView:
    """A page. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = _row(unit, page_id)
        document = MemberPage.model_validate(row.draft)
        segments = unit.session.exec(select(Segment.id, Segment.name).order_by(col(Segment.position))).all()
        return PageView(
            page_id, row.slug, row.revision, row.published, _differs(unit, row), document,
            tuple(_problems(unit, document)), tuple((one or 0, name) for one, name in segments), unit.catalogue,
        )  # fmt: skip


def _problems(unit: Unit, document: MemberPage) -> list[PageProblem]:
    found = list(page_problems(document, unit.catalogue))
    if document.audience == "segment" and unit.session.get(Segment, document.segment) is None:
        found.append(PageProblem(-1, "segment", "Name the segment that may read it; else nobody can see it."))
    return found


def create_page(scope: Scope, title: str) -> int:
    """Make a page; gives its id. Raises InvalidInput for an empty title."""
    with scope.transaction("editor") as unit:
        document = _document({"title": title.strip(), "blocks": [{"text": ""}]})
        touch(unit.session, unit.workspace_id)  # whoever makes one at the same time waits here
        slug = free_slug(document.title, set(unit.session.exec(select(PageRow.slug)).all()))
        row = PageRow(workspace_id=unit.workspace_id, slug=slug, draft=document.model_dump(mode="json"))
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def _document(data: Mapping[str, Any]) -> MemberPage:
    try:
        return MemberPage.model_validate(dict(data))
    except ValidationError as error:
        place = ".".join(map(str, error.errors()[0]["loc"]))
        words = "Give the page a title of at most 200 characters." if place == "title" else "This is too long."
        raise InvalidInput({place: words}) from None


def save_page(scope: Scope, page_id: int, revision: int, data: Mapping[str, Any]) -> int:
    """Keep a draft as it is, with problems or without; gives the id for undoing.

    Raises NotFound, InvalidInput, and Overtaken where somebody else has saved it since that revision.
    """
    with scope.transaction("editor") as unit:
        row = _row(unit, page_id, lock=True)
        if row.revision != revision:
            raise Overtaken("Somebody else has changed this page meanwhile.", ())
        document = _document(data)
        before = snapshot(unit, "page", page_id)
        row.draft, row.revision = document.model_dump(mode="json"), row.revision + 1
        unit.session.add(row)
        return record_change(unit, "page", page_id, f"Changed the page {document.title}", before)


def publish_page(scope: Scope, page_id: int) -> int:
    """Put the draft into force; gives the number of the version.

    Raises NotFound, InvalidInput for one with problems.
    """
    with scope.transaction("editor") as unit:
        row = _row(unit, page_id, lock=True)
        problems = _problems(unit, MemberPage.model_validate(row.draft))
        if problems:
            raise InvalidInput({"": problems[0].message})
        last = unit.session.exec(
            select(PageVersion.number)
            .where(col(PageVersion.page_id) == page_id)
            .order_by(col(PageVersion.number).desc())
        ).first()
        number = (last or 0) + 1
        unit.session.add(
            PageVersion(
                page_id=page_id, number=number, workspace_id=unit.workspace_id, document=row.draft, at=unit.moment.now,
                actor=unit.actor,
            )
        )  # fmt: skip
        row.published = number
        unit.session.add(row)
        return number


def withdraw_page(scope: Scope, page_id: int) -> None:
    """Nobody sees the page any more; its versions stay. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = _row(unit, page_id, lock=True)
        row.published = 0
        unit.session.add(row)


def delete_page(scope: Scope, page_id: int) -> None:
    """Remove a page that nobody sees, with its versions. Raises NotFound, InvalidInput for one in force."""
    with scope.transaction("editor") as unit:
        row = _row(unit, page_id, lock=True)
        if row.published:
            raise InvalidInput({"": "Take it out of force first."})
        unit.session.delete(row)


def read_page_as(scope: Scope, page_id: int, who: str = "", person_id: int = 0) -> AsSomebody:
    """The draft of a page as somebody reads it: the first whom the words find, or the newest person.

    Nobody is signed in by that. Raises NotFound.
    """
    with scope.reading("reader") as unit:
        document = MemberPage.model_validate(_row(unit, page_id).draft)
        found = (
            page_of_people(unit.session, unit.definitions, unit.moment, [], search=who, limit=1)
            if not person_id
            else []
        )
        someone = person_id or (found[0].id if found else 0)
        reader = reader_of(unit, someone)
        name = person_name(dict(reader.row)) if someone else ""
        return AsSomebody(someone, name, may_read(unit, document, reader, someone), blocks_for(unit, document, reader))
