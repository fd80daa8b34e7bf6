"""What the application holds for its routes."""

from dataclasses import dataclass

from fastapi import Request

from finesieve.services.accounts.members import MemberAccounts
from finesieve.services.accounts.staff import StaffAccounts
from finesieve.services.chat.holding import PublicChats
from finesieve.services.chat.on_a_page import AnswerPages
from finesieve.services.commerce.public import PublicShop
from finesieve.services.filling.signup import PublicForms
from finesieve.services.kernel.scope import Clock
from finesieve.services.pages.reading import PublicPages
from finesieve.settings import Settings
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore

__all__ = ["Site", "site_of"]


@dataclass(frozen=True, slots=True)
class Site:
    """The services and settings of one running application."""

    settings: Settings
    store: Store
    clock: Clock
    accounts: StaffAccounts
    members: MemberAccounts
    public_forms: PublicForms
    public_shop: PublicShop
    public_pages: PublicPages
    public_chats: PublicChats
    answer_pages: AnswerPages
    files: FileStore


def site_of(request: Request) -> Site:
    """The site that a request has come to."""
    site: Site = request.app.state.site
    return site
