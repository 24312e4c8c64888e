"""The first thing that a request meets: its number, its host, where it comes from, how large it is."""

from __future__ import annotations

import secrets
import time
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any
from urllib.parse import urlsplit

import structlog
from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fenrik.app.access import headers
from fenrik.app.metrics import requests_seconds
from fenrik.app.problems import answer
from fenrik.app.settings import Serving
from fenrik.core.errors import Problem

MAX_REQUEST_BYTES = 256 * 1024 * 1024
PERSON, NUMBER = "x-fenrik-person", "x-fenrik-request"
"""What the server tells its desk of a request: who asks, and its number."""
SAFE = ("GET", "HEAD", "OPTIONS")
METHODS = (*SAFE, "POST", "PUT", "PATCH", "DELETE")
log = structlog.get_logger("fenrik.requests")


class Guard:
    """Refuses what does not come from Fenrik's own pages, and gives every answer its headers.

    A page elsewhere can make a browser send requests here: under another host name that it had pointed to this machine
    (refused by `Host`), or across origins (refused by `Sec-Fetch-Site` and `Origin`, see the OWASP cheat sheet on
    cross-site request forgery). Programs that are no browsers send neither, and have no session of somebody else.
    """

    def __init__(self, app: ASGIApp, serving: Serving, is_desk: bool) -> None:
        self._app, self._serving, self._is_desk = app, serving, is_desk
        self._usual = headers.usual(serving.secured)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        number = (self._is_desk and Headers(scope=scope).get(NUMBER)) or secrets.token_hex(6)
        scope[NUMBER] = number
        began = time.perf_counter()
        status = 500

        async def told(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                found = MutableHeaders(scope=message)
                for name, value in self._usual.items():
                    found.setdefault(name, value)
                if scope["path"].startswith("/api/"):
                    found.setdefault("cache-control", "no-store")
                found["x-request-id"] = number
            await send(message)

        with structlog.contextvars.bound_contextvars(request=number):
            try:
                refused = self._refused(scope)
                if refused is not None:
                    await answer(*refused)(scope, receive, told)
                else:
                    await self._app(scope, _counted(receive), told)
            finally:
                took = time.perf_counter() - began
                method = scope["method"] if scope["method"] in METHODS else "other"
                requests_seconds.labels(method, f"{status // 100}xx").observe(took)
                log.info(
                    "request", method=scope["method"], path=scope["path"], status=status, ms=round(1000.0 * took, 1)
                )

    def _refused(self, scope: Scope) -> tuple[int, str, list[Problem]] | None:
        """Status, title and problems of a request that is not let in; the desk's were let in by the server."""
        if self._is_desk:
            return None
        found = Headers(scope=scope)
        if not self._serving.is_ours(found.get("host", "")):
            way_out = "Open Fenrik under its own address, or name this one with --public-url."
            return 421, "This is not the address of Fenrik.", [Problem("host", "is not known here.", way_out)]
        if scope["path"].startswith("/api/") and not self._is_from_here(scope, found):
            way_out = "Use Fenrik's own pages."
            return 403, "This request comes from another page.", [Problem("origin", "is not Fenrik's.", way_out)]
        if int(found.get("content-length", "0") or 0) > MAX_REQUEST_BYTES:
            return 413, f"More than {MAX_REQUEST_BYTES // 2**20} MB cannot be sent at once.", []
        return None

    def _is_from_here(self, scope: Scope, found: Headers) -> bool:
        site = found.get("sec-fetch-site")
        if site is not None and site not in ("same-origin", "none"):
            return False
        origin = found.get("origin")
        if origin is None or scope["method"] in SAFE:
            return True
        ours = {found.get("host", ""), urlsplit(self._serving.public_url).netloc} - {""}
        return origin.partition("://")[2] in ours


def _counted(receive: Receive) -> Callable[[], Awaitable[MutableMapping[str, Any]]]:
    """What is received, until it is too much, whatever was declared."""
    left = MAX_REQUEST_BYTES

    async def counted() -> MutableMapping[str, Any]:
        nonlocal left
        message = await receive()
        left -= len(message.get("body", b""))
        return message if left >= 0 else {"type": "http.disconnect"}

    return counted
