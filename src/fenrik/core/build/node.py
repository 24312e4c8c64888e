"""An artefact: what it is made from, the key that this gives it, and its maker."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from fenrik.core.keys import key_of
from fenrik.core.store import Store


@dataclass(frozen=True)
class Node:
    """An artefact of a kind. Its key is made from the version of its algorithm and all that its maker gets.

    Attributes:
        kind: what it is; the store keeps its bytes under this.
        version: raised when the same inputs give something else.
        inputs: plain data for the key.
        make: makes the bytes.
    """

    kind: str
    version: int
    inputs: Mapping[str, Any]
    make: Callable[[], bytes]
    kept_as: str = ""

    @cached_property
    def key(self) -> str:
        return key_of(self.kind, self.version, **self.inputs)

    def made(self, store: Store) -> bytes:
        """Its bytes: from the store, or made and put there."""
        data = store.get(self.key)
        if data is None:
            data = self.make()
            store.put(self.key, self.kept_as or self.kind, data)
        return data
