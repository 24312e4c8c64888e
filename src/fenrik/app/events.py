"""Events from PostgreSQL to every open page, with numbers, so that a stream that breaks goes on where it broke off."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import secrets
import time
from collections import Counter, deque
from collections.abc import AsyncIterator, Iterator
from typing import Any, NamedTuple

import psycopg
from pydantic_core import from_json, to_json
from sqlalchemy.exc import SQLAlchemyError

from fenrik.app.heads import heads
from fenrik.app.notices import CHANNEL
from fenrik.app.settings import database_url

RETRY_S = 1.0
INBOX = 1000
KEPT = 4000
"""How many events back a stream can catch up."""
MOST_STREAMS, MOST_OF_ONE = 2000, 300
HELLO = "hello"
"""What a page missed is not known: it looks at everything again."""
log = logging.getLogger(__name__)


class Event(NamedTuple):
    """Attributes:
    id: number of the server's start, a dash, and a count.
    """

    id: str
    kind: str
    data: str


class Hub:
    """Listens once, and hands each message to all who subscribed."""

    def __init__(self) -> None:
        self._inboxes: set[asyncio.Queue[Event]] = set()
        self._clients: Counter[str] = Counter()
        self._kept: deque[Event] = deque(maxlen=KEPT)
        self._start = secrets.token_hex(4)
        self._count = 0

    def count(self) -> int:
        """How many streams are open."""
        return len(self._inboxes)

    def has_room(self, client: str) -> bool:
        """Whether a client may have another stream."""
        return len(self._inboxes) < MOST_STREAMS and self._clients[client] < MOST_OF_ONE

    async def stream(self, client: str, last: str | None, lasting_s: float | None = None) -> AsyncIterator[Event]:
        """What a client missed since the event `last`, then what happens.

        Args:
            lasting_s: it ends after so long; a browser comes back by itself, and is asked again who it is.
        """
        with self._subscribed(client) as inbox:
            missed = self._since(last)
            if missed is None:
                yield Event(self._id(), HELLO, "{}")
            for event in missed or []:
                yield event
            ends = None if lasting_s is None else time.monotonic() + lasting_s
            while True:
                try:
                    yield await asyncio.wait_for(inbox.get(), None if ends is None else ends - time.monotonic())
                except TimeoutError:
                    return

    @contextlib.contextmanager
    def _subscribed(self, client: str) -> Iterator[asyncio.Queue[Event]]:
        inbox: asyncio.Queue[Event] = asyncio.Queue(INBOX)
        self._inboxes.add(inbox)
        self._clients[client] += 1
        try:
            yield inbox
        finally:
            self._inboxes.discard(inbox)
            self._clients[client] -= 1
            if not self._clients[client]:
                del self._clients[client]

    def _id(self) -> str:
        return f"{self._start}-{self._count}"

    def _since(self, last: str | None) -> list[Event] | None:
        """Events after one; None where that is not known any more."""
        if last == self._id():
            return []
        ids = [e.id for e in self._kept]
        return list(self._kept)[ids.index(last) + 1 :] if last in ids else None

    async def listen(self) -> None:
        """Run until cancelled; a database that stops is waited for, and pages are told that something may be missed."""
        while True:
            try:
                connection = await psycopg.AsyncConnection.connect(database_url(), autocommit=True, connect_timeout=5)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._forget()
                    async for message in connection.notifies():
                        event = from_json(message.payload)
                        self.hand_out(event.get("kind", "job"), to_json(await self._with_head(event)).decode())
            except psycopg.Error as error:
                log.warning("no events: %s", type(error).__name__)
                await asyncio.sleep(RETRY_S)

    async def _with_head(self, event: dict[str, Any]) -> dict[str, Any]:
        """With what the list shows of the job now (nothing: it is deleted), or else each open page would ask for it."""
        if not self._inboxes or "job" not in event:
            return event
        try:
            found = await asyncio.to_thread(heads, event["job"])
        except SQLAlchemyError:
            return event
        return event | {"head": found[0].model_dump(mode="json") if found else None}

    def _forget(self) -> None:
        """What happened before this moment was perhaps not heard."""
        self._kept.clear()
        self._start = secrets.token_hex(4)
        self.hand_out(HELLO, "{}")

    def hand_out(self, kind: str, data: str) -> None:
        """Give an event to all; a stream that does not keep up is told to look at everything again."""
        self._count += 1
        event = Event(self._id(), kind, data)
        self._kept.append(event)
        for inbox in self._inboxes:
            behind = inbox.full()
            while behind and not inbox.empty():
                inbox.get_nowait()
            inbox.put_nowait(Event(event.id, HELLO, "{}") if behind else event)


hub = Hub()
