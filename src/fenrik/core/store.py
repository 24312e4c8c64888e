"""Where artefacts are kept, by their keys."""

from __future__ import annotations

from typing import Protocol


class Store(Protocol):
    """Where artefacts are kept."""

    def get(self, key: str) -> bytes | None: ...
    def put(self, key: str, kind: str, data: bytes) -> None: ...


class MemoryStore(dict[str, bytes]):
    """Artefacts of one process."""

    def put(self, key: str, _kind: str, data: bytes) -> None:
        self[key] = data
