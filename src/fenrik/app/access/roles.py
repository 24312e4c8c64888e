"""Who may ask for what: each route says the role that it needs, or it follows from its method."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from typing import Any, Literal, TypeVar

from fastapi import Request
from starlette.exceptions import HTTPException

from fenrik.app.access import Role
from fenrik.app.access.guard import PERSON
from fenrik.app.access.sessions import LOCAL, Person, asking, person_of
from fenrik.app.settings import Serving, is_desk

Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])
Needed = Role | Literal["nobody"]
NOBODY: Literal["nobody"] = "nobody"
"""What is open to people who have not signed in."""


def needs(role: Needed) -> Callable[[Endpoint], Endpoint]:
    """Declares the role that a route needs, written below its address."""

    def mark(endpoint: Endpoint) -> Endpoint:
        endpoint.role = role  # type: ignore[attr-defined]
        return endpoint

    return mark


def cookie_name(serving: Serving) -> str:
    """With TLS one that browsers keep to this host and to TLS (RFC 6265bis)."""
    return "__Host-fenrik" if serving.secured else "fenrik"


async def admitted(request: Request) -> None:
    """Let a request in whose person may ask for it, and know the person from there on.

    Raises:
        HTTPException: 401 where nobody is signed in, 403 where the role does not suffice.
    """
    if is_desk():
        asking.set(Person(**json.loads(request.headers[PERSON])))
        return
    serving = Serving.here()
    if serving.on_loopback:
        asking.set(LOCAL)
        return
    usual: Role = "look" if request.method in ("GET", "HEAD") else "program"
    role: Needed = getattr(request.scope["route"].endpoint, "role", usual)
    word = request.cookies.get(cookie_name(serving), "")
    person = await asyncio.to_thread(person_of, word) if word else None
    if person is not None:
        asking.set(person)
    if role == NOBODY:
        return
    if person is None:
        raise HTTPException(401, "Nobody is signed in here (any more).")
    if not person.may(role):
        raise HTTPException(403, f"This needs an account that may {WORDS[role]}.")


WORDS = {"look": "look", "program": "program", "run": "run the shop"}
