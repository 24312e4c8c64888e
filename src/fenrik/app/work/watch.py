"""The watch over tasks and queue, in every server; one at a time repairs."""

from __future__ import annotations

import asyncio
import logging
import time

from sqlalchemy.exc import SQLAlchemyError

from fenrik.app.cleaning import clean
from fenrik.app.work import tasks
from fenrik.app.work.worker import SETTLED_S, STALLED_S

EVERY_S, CLEAN_EVERY_S = 2.0, 3600.0
log = logging.getLogger(__name__)


async def watch() -> None:
    """Take over what waits, then repair again and again, until cancelled; once an hour clean up."""
    away, adopted = False, False
    cleaned = time.monotonic()
    while True:
        try:
            if not adopted:
                await asyncio.to_thread(tasks.adopt_waiting)
                adopted = True
            await asyncio.to_thread(tasks.repair, STALLED_S, SETTLED_S)
            if time.monotonic() - cleaned > CLEAN_EVERY_S:
                cleaned = time.monotonic()
                await asyncio.to_thread(clean)
            away = False
        except SQLAlchemyError as error:
            if not away:
                log.warning("the database is away: %s", type(error).__name__)
            away = True
        await asyncio.sleep(EVERY_S)
