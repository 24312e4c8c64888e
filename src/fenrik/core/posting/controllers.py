"""All controllers that come with Fenrik."""

from __future__ import annotations

from functools import lru_cache

from fenrik.core.posting.arm_dialect import load_arm_dialects
from fenrik.core.posting.arms import ArmController
from fenrik.core.posting.controller import Controller
from fenrik.core.posting.dialect import load_dialects
from fenrik.core.posting.words import WordController


@lru_cache(maxsize=1)
def load_controllers() -> dict[str, Controller]:
    """Controllers by name: those of machines, then those of arms."""
    words = {name: WordController(dialect) for name, dialect in load_dialects().items()}
    return {**words, **{name: ArmController(dialect) for name, dialect in load_arm_dialects().items()}}
