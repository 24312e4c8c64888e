"""What is told to every open page, in the transaction that makes it true."""

from __future__ import annotations

import json
from typing import Any

from sqlmodel import Session, text

CHANNEL = "fenrik"


def notify(session: Session, **event: Any) -> None:
    """Tell every open page (and tab) of a change, once this transaction is through."""
    session.execute(text("select pg_notify(:c, :p)"), {"c": CHANNEL, "p": json.dumps(event)})
