"""What is told to every open page, in the transaction that makes it true."""

from __future__ import annotations

import json
from typing import Any, Literal

from sqlmodel import Session, text

CHANNEL = "fenrik"
Kind = Literal["job", "jobs", "task", "release", "head"]


def notify(session: Session, kind: Kind, **event: Any) -> None:
    """Tell every open page (and tab) of a change, once this transaction is through."""
    session.execute(text("select pg_notify(:c, :p)"), {"c": CHANNEL, "p": json.dumps({"kind": kind, **event})})
