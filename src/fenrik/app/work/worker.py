"""One worker process. More of them, on any machine, only need the same database."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import signal
import socket

import psycopg
import psycopg_pool
from procrastinate.exceptions import ConnectorException
from sqlalchemy.exc import OperationalError

from fenrik.app.logs import set_up_logs
from fenrik.app.settings import database_url
from fenrik.app.work import tasks
from fenrik.app.work.entries import queue_name
from fenrik.app.work.queue import child, queue
from fenrik.processes import end_with_parent, step_behind

HEARTBEAT_S = 2.0
STALLED_S = 8.0
"""A worker that was not heard of for so long is lost."""
SETTLED_S = 6.0
"""A database that was started less long ago may not have been told yet what goes on (three beats of work)."""
POLL_S = 2.0
IDLE_START_S = 8.0
LOOK_AGAIN_S = 0.5
AWAY = (ConnectorException, OperationalError, psycopg.OperationalError, psycopg_pool.PoolTimeout)
log = logging.getLogger(__name__)


def run_worker(name: str = "", parent: int | None = None) -> int:
    """Take work from the queue until stopped; a database that goes away is waited for.

    Args:
        name: what it holds is known by; one that begins under the name of another takes its place.
        parent: the process that it ends with.
    """
    if parent is not None:
        end_with_parent(parent, signal.SIGTERM)
    set_up_logs()
    step_behind()
    asyncio.run(_work(name or f"{socket.gethostname()} {os.getpid()}"))
    child.close()
    return 0


async def _work(name: str) -> None:
    stopping = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stopping.set)
    # Where there is work the child begins with it; where there is none it waits until pages have begun.
    asyncio.get_running_loop().call_later(IDLE_START_S, child.start)
    first = True
    while not stopping.is_set():
        try:
            await asyncio.to_thread(tasks.take_place, name, first)
            first = False
            await _until(stopping, name)
        except AWAY as error:
            log.warning("the database is away: %s", str(error).strip().split("\n")[0])
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(stopping.wait(), LOOK_AGAIN_S)


async def _until(stopping: asyncio.Event, name: str) -> None:
    """Work until asked to stop, or until the connection to the database is lost."""
    await asyncio.to_thread(_answers)
    async with queue.open_async():
        working = asyncio.create_task(
            queue.run_worker_async(
                queues=[queue_name()],
                name=name,
                concurrency=1,
                fetch_job_polling_interval=POLL_S,
                delete_jobs="always",
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=STALLED_S,
                shutdown_graceful_timeout=0,
                install_signal_handlers=False,
            )
        )
        asked = asyncio.create_task(stopping.wait())
        await asyncio.wait((working, asked), return_when=asyncio.FIRST_COMPLETED)
        asked.cancel()
        working.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await working


def _answers() -> None:
    """Fail at once where the database is away: the queue's pool would try for half a minute."""
    psycopg.connect(database_url(), connect_timeout=5).close()
