"""The application: settings and clock in, routes out."""

import gc
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Final

from fastapi import FastAPI, Request
from starlette.responses import JSONResponse, Response
from starlette.staticfiles import StaticFiles

from finesieve.core.fields.families.places import all_regions
from finesieve.core.language.parser import get_ready
from finesieve.front.account.routes import router as account
from finesieve.front.chat.answer import router as answer_pages
from finesieve.front.chat.handset import router as handset
from finesieve.front.chat.routes import router as chat
from finesieve.front.pages.routes import router as public_pages
from finesieve.front.shop.routes import router as shop
from finesieve.front.signup.routes import router as signup
from finesieve.office.access.routes import router as access
from finesieve.office.bench.routes import router as bench
from finesieve.office.chat.desk import router as clerks_desk
from finesieve.office.chat.scripts import router as chat_scripts
from finesieve.office.collect.composer import router as collect_composer
from finesieve.office.collect.forms import router as collect_forms
from finesieve.office.collect.library import router as collect_library
from finesieve.office.collect.planning import router as collect_planning
from finesieve.office.collect.publishing import router as collect_publishing
from finesieve.office.collect.rehearsing import router as collect_rehearsing
from finesieve.office.collect.sent import router as collect_sent
from finesieve.office.collect.sharing import router as collect_sharing
from finesieve.office.collect.showing import router as collect_showing
from finesieve.office.collect.sowing import router as collect_sowing
from finesieve.office.collect.translating import router as collect_translating
from finesieve.office.compute.routes import router as compute
from finesieve.office.compute.tables import router as compute_tables
from finesieve.office.define.approval import router as define_approval
from finesieve.office.define.built_ins import router as define_built_ins
from finesieve.office.define.byfile import router as define_byfile
from finesieve.office.define.fields import router as define_fields
from finesieve.office.define.groups import router as define_groups
from finesieve.office.define.house import router as define_house
from finesieve.office.define.memberships import level_router as define_levels
from finesieve.office.define.memberships import router as define_memberships
from finesieve.office.define.naming import router as define_naming
from finesieve.office.define.options import router as define_options
from finesieve.office.define.printing import router as define_printing
from finesieve.office.define.records import router as define_records
from finesieve.office.define.reshaping import router as define_reshaping
from finesieve.office.define.upkeep import router as define_upkeep
from finesieve.office.follow_up.links import router as follow_up_links
from finesieve.office.follow_up.routes import router as follow_up
from finesieve.office.language.routes import router as language
from finesieve.office.orders.routes import router as orders
from finesieve.office.pages.routes import router as pages
from finesieve.office.people.letters import router as people_letters
from finesieve.office.people.listing import router as people_list
from finesieve.office.people.routes import router as people
from finesieve.office.records.routes import router as records
from finesieve.office.shared.desk import NotSignedIn, to_sign_in
from finesieve.office.sift.breakdown import router as sift_breakdown
from finesieve.office.sift.over_time import router as sift_over_time
from finesieve.office.sift.overlap import router as sift_overlap
from finesieve.office.sift.routes import router as sift
from finesieve.office.sift.trays import router as sift_trays
from finesieve.places import files_directory
from finesieve.services.accounts.members import MemberAccounts
from finesieve.services.accounts.staff import StaffAccounts
from finesieve.services.chat.holding import PublicChats
from finesieve.services.chat.on_a_page import AnswerPages
from finesieve.services.commerce.public import PublicShop
from finesieve.services.filling.signup import PublicForms
from finesieve.services.kernel.scope import Clock, utc_now
from finesieve.services.pages.reading import PublicPages
from finesieve.settings import MissingSecret, Settings
from finesieve.store.connection.database import Store, connect
from finesieve.store.files.keeping import FileStore
from finesieve.web.admission import Admission
from finesieve.web.errors import add_error_pages
from finesieve.web.hurry import Hurried
from finesieve.web.reading import ReadsOnce
from finesieve.web.security import SecurityHeaders
from finesieve.web.site import Site
from finesieve.web.templating import PACKAGE, read_templates

__all__ = ["create_app", "create_server"]

MOST_BYTES: Final = 22 * 1024 * 1024
SECONDS_FOR_OFFICE: Final = 10
SECONDS_FOR_FRONT: Final = 5
"""How long one statement may take in a request."""


def _secret(settings: Settings) -> str:
    """What signs tokens. Only the demo may do without: each process would have another one."""
    if not settings.secret and not settings.demo:
        raise MissingSecret("FINESIEVE_SECRET is not set; it signs what is handed to browsers.")
    return settings.secret or secrets.token_urlsafe(32)


def create_server() -> FastAPI:
    """Make the application for a process that does nothing else.

    What the public pages want of each process is made before anybody comes: of many who come at once, each would make
    it for themselves. What the modules have made stays for good; looking it over for garbage again and again would hold
    all answers up.
    """
    app = create_app()
    get_ready()
    all_regions()
    read_templates("front/", "web/")
    gc.collect()
    gc.freeze()
    return app


def create_app(settings: Settings | None = None, clock: Clock = utc_now) -> FastAPI:
    """Make the application. `clock` tells the time, for tests that move it."""
    settings = settings or Settings()
    # Two pools, so that the public pages have connections however busy the office is.
    store = Store(connect(settings.database_url, seconds=SECONDS_FOR_OFFICE))
    public_store = Store(connect(settings.database_url, pool_size=8, seconds=SECONDS_FOR_FRONT))
    secret = _secret(settings)

    @asynccontextmanager
    async def lifespan(_app: FastAPI) -> AsyncIterator[None]:
        yield
        for one in (store, public_store):
            one.engine.dispose()

    app = FastAPI(
        title="Fine Sieve", docs_url=None, redoc_url=None, openapi_url=None, lifespan=lifespan, max_body_size=MOST_BYTES
    )
    app.state.site = Site(
        settings=settings,
        store=store,
        clock=clock,
        accounts=StaffAccounts(store, clock, secret, fast_hashes=settings.fast_hashes),
        members=MemberAccounts(public_store, clock, secret, fast_hashes=settings.fast_hashes),
        public_forms=PublicForms(public_store, clock, secret, FileStore(files_directory())),
        public_shop=PublicShop(public_store, clock, secret),
        public_pages=PublicPages(public_store, clock, FileStore(files_directory())),
        public_chats=PublicChats(public_store, clock, FileStore(files_directory()), secret),
        answer_pages=AnswerPages(public_store, clock, secret, FileStore(files_directory())),
        files=FileStore(files_directory()),
    )
    app.add_middleware(ReadsOnce)
    app.add_middleware(Hurried)
    app.add_middleware(Admission)
    app.add_middleware(SecurityHeaders)
    add_error_pages(app)
    app.add_exception_handler(NotSignedIn, to_sign_in)
    app.mount("/static", StaticFiles(directory=PACKAGE / "static"))
    define = (
        define_groups,
        define_fields,
        define_house,
        define_levels,
        define_naming,
        define_options,
        define_approval,
        define_printing,
        define_records,
        define_reshaping,
        define_upkeep,
        define_byfile,
        define_built_ins,
        define_memberships,
    )
    collect = (
        collect_forms,
        collect_library,
        collect_composer,
        collect_planning,
        collect_publishing,
        collect_rehearsing,
        collect_sharing,
        collect_showing,
        collect_sowing,
        collect_translating,
        collect_sent,
    )
    # The public pages first: routes are tried in turn, and most of the world comes there.
    for router in (
        signup,
        account,
        public_pages,
        chat,
        answer_pages,
        handset,
        shop,
        access,
        bench,
        *define,
        *collect,
        chat_scripts,
        clerks_desk,
        compute,
        compute_tables,
        sift,
        sift_breakdown,
        sift_overlap,
        sift_trays,
        sift_over_time,
        follow_up,
        follow_up_links,
        pages,
        language,
        people_letters,
        people_list,
        people,
        records,
        orders,
    ):
        app.include_router(router)

    @app.get("/healthz")
    def health(request: Request) -> Response:
        """200 once the database is migrated and reachable, else 503; and whether a worker gives signs of life."""
        found = request.app.state.site.store.health()
        body = {"status": "ready" if found.ready else "not ready", "worker": "alive" if found.worker else "silent"}
        return JSONResponse(body, 200 if found.ready else 503)

    return app
