"""Signing in and out, one's own password, and the accounts of the shop."""

from __future__ import annotations

from datetime import datetime

from fastapi import APIRouter, Request, Response
from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from fenrik.app.access import Role, accounts, sessions
from fenrik.app.access.accounts import LONGEST
from fenrik.app.access.roles import NOBODY, cookie_name, needs
from fenrik.app.settings import Serving
from fenrik.core.errors import FenrikError

router = APIRouter(prefix="/api", tags=["accounts"])
_tries = MovingWindowRateLimiter(MemoryStorage())
TRIES = RateLimitItemPerMinute(20)
"""From one address, whatever the names."""


class SignIn(BaseModel):
    name: str = Field(max_length=40)
    password: str = Field(max_length=LONGEST)


class Signed(BaseModel):
    """Who is signed in; `needed` says whether anybody has to be."""

    needed: bool
    name: str = ""
    role: Role | None = None


class NewPassword(BaseModel):
    old: str = Field(max_length=LONGEST)
    new: str = Field(max_length=LONGEST)


class Account(BaseModel):
    name: str
    role: Role
    made_at: datetime


class NewAccount(BaseModel):
    name: str = Field(max_length=40)
    role: Role
    password: str = Field(max_length=LONGEST)


class Changed(BaseModel):
    """What of an account becomes another."""

    role: Role | None = None
    password: str | None = Field(default=None, max_length=LONGEST)


@router.get("/session", operation_id="readSession")
@needs(NOBODY)
def read_session() -> Signed:
    """Who is signed in, and whether anybody has to be."""
    if Serving.here().on_loopback:
        return Signed(needed=False, role="run")
    person = sessions.asking.get()
    return Signed(needed=True) if person is sessions.LOCAL else Signed(needed=True, name=person.name, role=person.role)


@router.post("/session", operation_id="signIn", responses={429: {}})
@needs(NOBODY)
def sign_in(body: SignIn, request: Request, response: Response) -> Signed:
    """Sign in; the session is in a cookie that scripts cannot read."""
    role = _checked(request, body.name, body.password)
    serving = Serving.here()
    response.set_cookie(
        cookie_name(serving),
        sessions.open_session(body.name),
        httponly=True,
        secure=serving.secured,
        samesite="strict",
        max_age=int(sessions.LONGEST.total_seconds()),
    )
    return Signed(needed=True, name=body.name, role=role)


def _checked(request: Request, name: str, password: str) -> Role:
    """The role of an account whose password this is; few wrong ones a minute are looked at from one address."""
    client = request.client.host if request.client else ""
    if not _tries.test(TRIES, client):
        raise HTTPException(429, "There were too many wrong passwords from here. Wait a minute.")
    try:
        return accounts.check(name, password)
    except FenrikError:
        _tries.hit(TRIES, client)
        raise


@router.delete("/session", operation_id="signOut", status_code=204)
@needs(NOBODY)
def sign_out(request: Request, response: Response) -> None:
    """End the session."""
    serving = Serving.here()
    name = cookie_name(serving)
    if word := request.cookies.get(name):
        sessions.close_session(word)
    response.delete_cookie(name, httponly=True, secure=serving.secured, samesite="strict")


@router.put("/session/password", operation_id="changeOwnPassword", status_code=204, responses={429: {}})
@needs("look")
def change_password(body: NewPassword, request: Request) -> None:
    """Another password for oneself; all one's sessions end."""
    name = sessions.asking.get().name
    _checked(request, name, body.old)
    accounts.set_password(name, body.new)
    sessions.forget_believed()


@router.get("/accounts", operation_id="listAccounts")
@needs("run")
def list_accounts() -> list[Account]:
    return [Account.model_validate(a, from_attributes=True) for a in accounts.list_accounts()]


@router.post("/accounts", operation_id="addAccount", status_code=201)
@needs("run")
def add_account(body: NewAccount) -> list[Account]:
    accounts.add_account(body.name, body.role, body.password)
    return list_accounts()


@router.patch("/accounts/{name}", operation_id="changeAccount")
@needs("run")
def change_account(name: str, body: Changed) -> list[Account]:
    if body.role is not None:
        accounts.set_role(name, body.role)
    if body.password is not None:
        accounts.set_password(name, body.password)
    sessions.forget_believed()
    return list_accounts()


@router.delete("/accounts/{name}", operation_id="removeAccount", status_code=204)
@needs("run")
def remove_account(name: str) -> None:
    accounts.remove_account(name)
    sessions.forget_believed()
