"""One request reads in one transaction, and its connection is free before the answer goes out."""

from starlette.concurrency import run_in_threadpool
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from finesieve.store.connection.database import one_reading

__all__ = ["ReadsOnce"]


class ReadsOnce:
    """Lets the queries of a request share a transaction; whoever reads the answer slowly holds no connection."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["path"].startswith("/static/"):
            await self._app(scope, receive, send)
            return
        with one_reading() as reading:

            async def send_without(message: Message) -> None:
                if reading.is_open:
                    await run_in_threadpool(reading.end)
                await send(message)

            try:
                await self._app(scope, receive, send_without)
            finally:
                if reading.is_open:
                    await run_in_threadpool(reading.end)
