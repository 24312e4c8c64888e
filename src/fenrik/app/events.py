"""Events from PostgreSQL to every open page."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Iterator

import psycopg

from fenrik.app.documents import CHANNEL
from fenrik.app.settings import database_url

RETRY_S = 2.0
INBOX = 1000


class Hub:
    """Listens once, and hands each message to all who subscribed."""

    def __init__(self) -> None:
        self._inboxes: set[asyncio.Queue[str]] = set()

    @contextlib.contextmanager
    def subscribe(self) -> Iterator[asyncio.Queue[str]]:
        inbox: asyncio.Queue[str] = asyncio.Queue(INBOX)
        self._inboxes.add(inbox)
        try:
            yield inbox
        finally:
            self._inboxes.discard(inbox)

    async def listen(self) -> None:
        """Run until cancelled; a database that stops is waited for."""
        while True:
            try:
                connection = await psycopg.AsyncConnection.connect(database_url(), autocommit=True, connect_timeout=5)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    async for message in connection.notifies():
                        self._hand_out(message.payload)
            except psycopg.Error:
                await asyncio.sleep(RETRY_S)

    def _hand_out(self, payload: str) -> None:
        for inbox in self._inboxes:
            if inbox.full():
                inbox.get_nowait()
            inbox.put_nowait(payload)


hub = Hub()
