"""The web server: API and the built front end, on one port."""

from __future__ import annotations

import asyncio
import contextlib
import gc
from collections.abc import AsyncIterator

from fastapi import Depends, FastAPI
from starlette.middleware.gzip import GZipMiddleware

from fenrik import __version__
from fenrik.app import problems, reading
from fenrik.app.access.guard import Guard
from fenrik.app.access.roles import admitted
from fenrik.app.events import hub
from fenrik.app.routers import (
    accounts,
    condition,
    jobs,
    library,
    machines,
    pages,
    parts,
    planning,
    setups,
    stocks,
    views,
    work,
)
from fenrik.app.settings import Serving, desk_socket, is_desk
from fenrik.app.work.watch import watch
from fenrik.core.sources import is_warm
from fenrik.core.warm import warm_opening

READY_EVERY_S = 1.0


async def _warm_up() -> None:
    # No thread waits for it: a server that is stopped while it gets ready would wait for that thread.
    while not await asyncio.to_thread(is_warm):
        await asyncio.sleep(READY_EVERY_S)
    # One after the other: somebody may look at a job already.
    await asyncio.to_thread(warm_opening)
    await asyncio.to_thread(reading.warm_reader)
    _leave_as_it_is()


def _leave_as_it_is() -> None:
    """Have what is there now never looked through for garbage again.

    What was imported stays, and looking through it would stop requests for tenths of a second. Without it that is cheap
    enough to be done every few hundred requests: a job that was opened holds itself in circles.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 5, 5)


@contextlib.asynccontextmanager
async def lifespan(_app: FastAPI) -> AsyncIterator[None]:
    _leave_as_it_is()
    work = []
    if not is_desk():
        work += [hub.listen(), watch()]
    if not desk_socket():
        work.append(_warm_up())
    tasks = [asyncio.create_task(w) for w in work]
    yield
    for task in tasks:
        task.cancel()


PROBLEM = {"model": problems.ProblemDocument, "content": {problems.MEDIA: {}}}
app = FastAPI(
    title="Fenrik",
    version=__version__,
    lifespan=lifespan,
    docs_url=None,
    redoc_url=None,
    responses={
        422: {**PROBLEM, "description": "Wrong, field by field"},
        409: {**PROBLEM, "description": "Somebody else changed it"},
        400: {**PROBLEM, "description": "Not understood"},
        401: {**PROBLEM, "description": "Nobody is signed in"},
        403: {**PROBLEM, "description": "Not from here, or not by this account"},
        413: {**PROBLEM, "description": "Too large"},
        421: {**PROBLEM, "description": "Not the address of this server"},
        503: {**PROBLEM, "description": "The database does not answer"},
    },
)
app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=1)
app.add_middleware(Guard, serving=Serving.here(), is_desk=is_desk())
problems.install(app)
for module in (accounts, jobs, parts, setups, library, machines, views, stocks, work, planning, condition):
    for router in (module.router, getattr(module, "desk", None), getattr(module, "shop", None)):
        if router is not None:
            app.include_router(router, dependencies=[Depends(admitted)])
app.include_router(pages.router)
