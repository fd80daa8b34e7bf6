"""The Index of the stage Follow up: the clerk’s desk, messages, personal links, pages."""

from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section
from finesieve.services.chat.desk import waiting_at_desk
from finesieve.services.pages.editing import list_pages

__all__ = ["follow_up_sections"]


def follow_up_sections(desk: Desk, active: str, page_id: int = 0) -> list[Section]:
    """The Index; `active` is the part that is open (`desk`, `outbox`, `links`, `pages`), `page_id` the page."""
    pages = [
        Entry(
            one.title, desk.path(f"follow-up/pages/{one.id}"), f"v{one.published}" if one.published else "draft",
            one.id == page_id,
        )
        for one in list_pages(desk.scope)
    ]  # fmt: skip
    waiting = len(waiting_at_desk(desk.scope))
    messages = [
        Entry("Clerk’s desk", desk.path("follow-up/desk"), str(waiting or ""), active == "desk"),
        Entry("Outbox", desk.path("follow-up/outbox"), active=active == "outbox"),
        Entry("Personal links", desk.path("follow-up/links"), active=active == "links"),
    ]
    return [
        Section("messages", messages),
        Section(
            "pages", pages, desk.path("follow-up/pages"), "New page",
            head=Entry("All pages", desk.path("follow-up/pages"), active=active == "pages" and not page_id),
        ),
    ]  # fmt: skip
