"""The web server: API and the built front end, on one port."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import os
from collections.abc import AsyncIterator
from pathlib import Path

from fastapi import FastAPI
from fastapi.responses import FileResponse, Response
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import GZipMiddleware

from fenrik import __version__
from fenrik.app import problems, reading, ready
from fenrik.app.events import hub
from fenrik.app.routers import jobs, library, parts, planning, setups, views, work
from fenrik.app.work.watch import watch
from fenrik.core.warm import warm_opening

WEB = Path(os.environ.get("FENRIK_WEB", Path(__file__).parents[3] / "web" / "dist"))
READY_EVERY_S = 0.2


async def _warm_up() -> None:
    # No thread waits for it: a server that is stopped while it gets ready would wait for that thread.
    while not ready.state().ready:
        await asyncio.sleep(READY_EVERY_S)
    await asyncio.gather(asyncio.to_thread(reading.warm_reader), asyncio.to_thread(warm_opening))


@contextlib.asynccontextmanager
async def lifespan(_app: FastAPI) -> AsyncIterator[None]:
    # What was imported stays; collecting it again and again would stop requests for tenths of a second.
    gc.freeze()
    gc.set_threshold(50_000, 20, 100)
    tasks = [
        asyncio.create_task(hub.listen()),
        asyncio.create_task(watch()),
        asyncio.create_task(_warm_up()),
    ]
    yield
    for task in tasks:
        task.cancel()


PROBLEM = {"model": problems.ProblemDocument, "content": {problems.MEDIA: {}}}
app = FastAPI(
    title="Fenrik",
    version=__version__,
    lifespan=lifespan,
    responses={
        422: {**PROBLEM, "description": "Wrong, field by field"},
        409: {**PROBLEM, "description": "Somebody else changed it"},
        400: {**PROBLEM, "description": "Not understood"},
        503: {**PROBLEM, "description": "The database does not answer"},
    },
)
app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=1)
problems.install(app)
for module in (jobs, parts, setups, library, views, work, planning):
    app.include_router(module.router)


class Health(ready.Ready):
    """What answers, and whether it has all that it computes with."""

    version: str


@app.get("/api/health", operation_id="health")
def health() -> Health:
    return Health(version=__version__, **ready.state().model_dump())


@app.get("/{path:path}", include_in_schema=False)
def page(path: str) -> Response:
    """The front end's files; any other address leads to its one page."""
    if path.startswith("api/"):
        raise HTTPException(404, "There is no such address.")
    file = (WEB / path).resolve()
    if path and file.is_relative_to(WEB.resolve()) and file.is_file():
        lasting = "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
        return FileResponse(file, headers={"cache-control": lasting})
    if (WEB / "index.html").is_file():
        return FileResponse(WEB / "index.html", headers={"cache-control": "no-cache"})
    raise HTTPException(404, "The front end is not built; run ./start.")
