"""Sessions of people who are signed in: a random word in a cookie, its hash in the database."""

from __future__ import annotations

import hashlib
import secrets
import time
from collections import OrderedDict
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import timedelta

from sqlmodel import Session, col, delete, or_

from fenrik.app.access import ROLES, Role
from fenrik.app.tables import AccountRow, SessionRow, engine, now

LONGEST, IDLE = timedelta(hours=12), timedelta(hours=2)
SEEN_EVERY = timedelta(minutes=1)
BELIEVED_S = 2.0
"""For so long a session is believed without being looked up again."""
_BELIEVED_MOST = 2000


@dataclass(frozen=True)
class Person:
    """Who asks; the one local user has no name."""

    name: str
    role: Role

    def may(self, role: Role) -> bool:
        """Whether this person's role includes another."""
        return ROLES.index(self.role) >= ROLES.index(role)


LOCAL = Person("", "run")
asking: ContextVar[Person] = ContextVar("asking", default=LOCAL)
"""Who asks for what is being done."""
_believed: OrderedDict[str, tuple[float, Person]] = OrderedDict()


def open_session(account: str) -> str:
    """A new session; gives the word that goes into the cookie."""
    word = secrets.token_urlsafe(32)
    with Session(engine()) as session:
        old = or_(col(SessionRow.made_at) < now() - LONGEST, col(SessionRow.seen_at) < now() - IDLE)
        session.exec(delete(SessionRow).where(old))
        session.add(SessionRow(word=_hashed(word), account=account))
        session.commit()
    return word


def close_session(word: str) -> None:
    """End a session, at once."""
    _believed.pop(_hashed(word), None)
    with Session(engine()) as session:
        session.exec(delete(SessionRow).where(col(SessionRow.word) == _hashed(word)))
        session.commit()


def person_of(word: str) -> Person | None:
    """Whose session it is; None where it has ended or never was."""
    key = _hashed(word)
    believed = _believed.get(key)
    if believed is not None and time.monotonic() - believed[0] < BELIEVED_S:
        return believed[1]
    _believed.pop(key, None)
    with Session(engine()) as session:
        found = session.get(SessionRow, key)
        if found is None or found.made_at < now() - LONGEST or found.seen_at < now() - IDLE:
            return None
        account = session.get_one(AccountRow, found.account)
        person = Person(account.name, next(r for r in ROLES if r == account.role))
        if found.seen_at < now() - SEEN_EVERY:
            found.seen_at = now()
            session.commit()
    _believed[key] = time.monotonic(), person
    while len(_believed) > _BELIEVED_MOST:
        _believed.popitem(last=False)
    return person


def forget_believed() -> None:
    """Look all sessions up again: an account was changed."""
    _believed.clear()


def _hashed(word: str) -> str:
    return hashlib.sha256(word.encode()).hexdigest()
