"""The desk: a process beside the server that works out what people look at.

The server itself answers what is quick: documents, their changes, events. Routes of the class `AtDesk` open jobs, ask
the CAD kernel, mesh stocks; where the server has a desk it hands their requests on, as they are, over a socket that
only its own user can open. So a field is changed at once whatever somebody else looks at, and a kernel that crashes
takes neither server nor anybody's session with it.
"""

from __future__ import annotations

import asyncio
import json
import os
import signal
import time
from collections.abc import Callable, Coroutine
from dataclasses import asdict
from functools import cache
from typing import Any

import httpx
import uvicorn
from fastapi import Request, Response
from fastapi.responses import StreamingResponse
from fastapi.routing import APIRoute
from starlette.background import BackgroundTask

from fenrik.app.access.guard import NUMBER, PERSON
from fenrik.app.access.roles import admitted
from fenrik.app.access.sessions import asking
from fenrik.app.logs import set_up_logs
from fenrik.app.problems import answer
from fenrik.app.settings import desk_socket
from fenrik.core.errors import Problem
from fenrik.processes import end_with_parent, give_back_early, step_behind

BEHIND = 2
START_S, AGAIN_S = 60.0, 0.1
"""A desk that starts again is waited for."""
HOPS = {"connection", "keep-alive", "transfer-encoding", "te", "upgrade", "content-length", "date", "server"}
Handler = Callable[[Request], Coroutine[Any, Any, Response]]


class AtDesk(APIRoute):
    """A route that is worked out at the desk, where there is one."""

    def get_route_handler(self) -> Handler:
        here = super().get_route_handler()

        async def handler(request: Request) -> Response:
            if desk_socket() == "":
                return await here(request)
            await admitted(request)
            return await _handed_on(request)

        return handler


@cache
def _client() -> httpx.AsyncClient:
    transport = httpx.AsyncHTTPTransport(uds=desk_socket(), limits=httpx.Limits(max_connections=200))
    return httpx.AsyncClient(transport=transport, base_url="http://desk", timeout=None)


async def _handed_on(request: Request) -> Response:
    """The desk's answer. What it lost can be asked for again where that changes nothing."""
    safe = request.method in ("GET", "HEAD")
    for last in (False, True):
        try:
            found = await _sent(request)
        except httpx.ConnectError:
            return answer(503, "This is being started again.", detail="Try again in a moment; the log says more.")
        except httpx.TransportError:
            if safe and not last:
                continue
            return _lost(safe)
        headers = {k: v for k, v in found.headers.items() if k not in HOPS}
        return StreamingResponse(found.aiter_raw(), found.status_code, headers, background=BackgroundTask(found.aclose))
    raise AssertionError


async def _sent(request: Request) -> httpx.Response:
    own = {PERSON: json.dumps(asdict(asking.get())), NUMBER: request.scope.get(NUMBER, "")}
    headers = {k: v for k, v in request.headers.items() if k not in HOPS} | own
    size = request.headers.get("content-length")
    if size is not None:
        headers["content-length"] = size
    path = request.scope["raw_path"] + b"?" + request.scope["query_string"]
    deadline = time.monotonic() + START_S
    while True:
        body = None if request.method in ("GET", "HEAD") else request.stream()
        built = _client().build_request(
            request.method, httpx.URL("http://desk", raw_path=path), headers=headers, content=body
        )
        try:
            return await _client().send(built, stream=True)
        except httpx.ConnectError:
            if time.monotonic() > deadline:
                raise
            await asyncio.sleep(AGAIN_S)


def _lost(safe: bool) -> Response:
    if safe:
        way_out = "Check the model for damage (Part, health); other jobs are not touched."
        problem = Problem("job", "ends the process that works this out, likely in the CAD kernel.", way_out)
        return answer(422, "This cannot be worked out.", [problem])
    words = "Look whether the last step was kept before you repeat it."
    return answer(503, "The process that did this was ended.", detail=words)


def run_desk(socket: str, parent: int | None) -> int:
    """Be the desk, at a socket, until stopped."""
    if parent is not None:
        # At once: where the server is gone, nobody hands on what it would still answer.
        end_with_parent(parent, signal.SIGKILL)
    os.environ |= {"FENRIK_IS_DESK": "1", "FENRIK_DESK_SOCKET": ""}
    set_up_logs()
    give_back_early()
    step_behind(BEHIND)
    uvicorn.run(
        "fenrik.app.main:app",
        uds=socket,
        log_config=None,
        access_log=False,
        server_header=False,
        timeout_graceful_shutdown=3,
    )
    return 0
