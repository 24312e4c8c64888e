"""Accounts of the people of a shop: names, roles, passwords (argon2id), and what happens after wrong ones."""

from __future__ import annotations

import re
import threading
from datetime import datetime, timedelta
from functools import cache

import structlog
from argon2 import PasswordHasher
from argon2.exceptions import VerifyMismatchError
from sqlmodel import Session, col, delete, select
from zxcvbn import zxcvbn

from fenrik.app.access import ROLES, Role
from fenrik.app.tables import AccountRow, SessionRow, engine, insert_new, now
from fenrik.core.errors import fail

SHORTEST, LONGEST = 12, 128
LEAST_STRENGTH = 3
"""Of the estimate of D. L. Wheeler, "zxcvbn: low-budget password strength estimation", USENIX Security 2016."""
FREE_TRIES = 5
LONGEST_WAIT = timedelta(minutes=15)
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,39}")
_few = threading.BoundedSemaphore(2)
"""Hashing takes 64 MB: not for a hundred guesses at a time."""
log = structlog.get_logger("fenrik.accounts")


def add_account(name: str, role: Role, password: str) -> None:
    """Make an account.

    Raises:
        FenrikError: where the name is taken or no name, or the password is too weak.
    """
    if not _NAME.fullmatch(name):
        words = "A name is of letters, digits, . _ and -, at most 40."
        raise fail("name", words, "Use for example a first name.", name)
    check_password(name, password)
    with Session(engine()) as session:
        if not insert_new(session, AccountRow(name=name, role=role, password=_hash(password))):
            raise fail("name", "This name is taken.", "Choose another, or change that account.", name)
        session.commit()
    log.info("account added", account=name, role=role)


def check_password(name: str, password: str) -> None:
    """Raise where a password could be guessed.

    Raises:
        FenrikError: with what is weak about it.
    """
    way_out = "Take four or five words that do not belong together."
    if not SHORTEST <= len(password) <= LONGEST:
        raise fail("password", f"A password must have {SHORTEST} to {LONGEST} characters.", way_out)
    found = zxcvbn(password, [name, "fenrik"], max_length=LONGEST)
    if found["score"] < LEAST_STRENGTH:
        raise fail("password", f"This password is easily guessed. {found['feedback']['warning']}".strip(), way_out)


def set_password(name: str, password: str) -> None:
    """Give an account another password; its sessions end.

    Raises:
        FenrikError: as `add_account`, or where there is no such account.
    """
    check_password(name, password)
    with Session(engine()) as session:
        account = _known(session, name)
        account.password, account.wrong, account.locked_until = _hash(password), 0, None
        session.exec(delete(SessionRow).where(col(SessionRow.account) == name))
        session.commit()
    log.info("password changed", account=name)


def set_role(name: str, role: Role) -> None:
    """Give an account another role; its sessions end.

    Raises:
        FenrikError: where there is no such account, or nobody would run the shop any more.
    """
    with Session(engine()) as session:
        account = _known(session, name)
        _someone_else(session, account, role)
        account.role = role
        session.exec(delete(SessionRow).where(col(SessionRow.account) == name))
        session.commit()
    log.info("role changed", account=name, role=role)


def remove_account(name: str) -> None:
    """Remove an account with its sessions; what it made keeps its name.

    Raises:
        FenrikError: as `set_role`.
    """
    with Session(engine()) as session:
        account = _known(session, name)
        _someone_else(session, account, None)
        session.delete(account)
        session.commit()
    log.info("account removed", account=name)


def list_accounts() -> list[AccountRow]:
    """All accounts, by name."""
    with Session(engine()) as session:
        return list(session.exec(select(AccountRow).order_by(col(AccountRow.name))).all())


def check(name: str, password: str) -> Role:
    """The role of an account whose password this is.

    Raises:
        FenrikError: the same words whether the name or the password is wrong; after some wrong ones in a row, that it
            has to be waited for.
    """
    wrong = fail("password", "Name or password is wrong.", "Try again, or ask who runs the shop for a new one.")
    with Session(engine()) as session:
        account = session.get(AccountRow, name)
        if account is not None and account.locked_until is not None and account.locked_until > now():
            seconds = round((account.locked_until - now()).total_seconds()) + 1
            raise fail("password", "There were too many wrong passwords.", f"Try again in {seconds} s.")
        kept = account.password if account is not None else _nobody()
    right = _is_right(kept, password)  # no connection is held meanwhile
    with Session(engine()) as session:
        account = session.exec(select(AccountRow).where(AccountRow.name == name).with_for_update()).first()
        if account is None:
            log.warning("wrong name", account=name[:40])
            raise wrong
        if not right:
            account.wrong += 1
            account.locked_until = _locked_until(account.wrong)
            session.commit()
            log.warning("wrong password", account=name, times=account.wrong)
            raise wrong
        account.wrong, account.locked_until = 0, None
        if _hasher().check_needs_rehash(account.password):
            account.password = _hash(password)
        role = next(r for r in ROLES if r == account.role)
        session.commit()
        return role


def _locked_until(wrong: int) -> datetime | None:
    """Nothing after a few; then 2, 4, 8 … seconds, up to a quarter of an hour."""
    if wrong < FREE_TRIES:
        return None
    return now() + min(timedelta(seconds=2.0 ** min(wrong - FREE_TRIES + 1, 16)), LONGEST_WAIT)


def _known(session: Session, name: str) -> AccountRow:
    account = session.exec(select(AccountRow).where(AccountRow.name == name).with_for_update()).first()
    if account is None:
        raise fail("name", "is no account.", "See `fenrik account list`.", name)
    return account


def _someone_else(session: Session, account: AccountRow, role: Role | None) -> None:
    if account.role != "run" or role == "run":
        return
    others = select(AccountRow.name).where(AccountRow.role == "run", AccountRow.name != account.name)
    if session.exec(others).first() is None:
        raise fail("role", "This would leave nobody who runs the shop.", "Give that role to another account first.")


@cache
def _hasher() -> PasswordHasher:
    return PasswordHasher()


def _hash(password: str) -> str:
    with _few:
        return _hasher().hash(password)


@cache
def _nobody() -> str:
    """Compared with where there is no such account, so that this takes as long as with one."""
    return _hash("nobody has this one")


def _is_right(kept: str, password: str) -> bool:
    with _few:
        try:
            return _hasher().verify(kept, password)
        except VerifyMismatchError:
            return False
