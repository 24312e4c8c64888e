"""Artefacts in PostgreSQL: compressed, content-addressed, written whole or not at all."""

from __future__ import annotations

import zstandard
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from fenrik.app.tables import ArtefactRow, engine, now

LEVEL = 3
# PostgreSQL keeps at most 1 GiB in a value.
MAX_STORED = 900 * 1024 * 1024


class DatabaseStore:
    """The artefact store of `core.build` on the database, with the latest artefacts kept at hand."""

    def __init__(self, keep_bytes: int = 256 * 1024 * 1024) -> None:
        self._near: dict[str, bytes] = {}
        self._room = keep_bytes

    def get(self, key: str) -> bytes | None:
        if key in self._near:
            return self._near[key]
        with Session(engine()) as session:
            data = session.exec(select(ArtefactRow.data).where(ArtefactRow.key == key)).first()
        if data is None:
            return None
        plain = zstandard.ZstdDecompressor().decompress(data)
        self._keep(key, plain)
        return plain

    def put(self, key: str, kind: str, data: bytes) -> None:
        packed = zstandard.ZstdCompressor(level=LEVEL).compress(data)
        if len(packed) > MAX_STORED:
            raise MemoryError(f"an artefact of {len(packed)} bytes is too large to keep")
        with Session(engine()) as session:
            row = {"key": key, "kind": kind, "size": len(data), "data": packed, "made_at": now()}
            made = session.execute(insert(ArtefactRow).values(row).on_conflict_do_nothing())
            if made.rowcount:  # type: ignore[attr-defined]
                self.kept(session)
            session.commit()
        self._keep(key, data)

    def kept(self, session: Session) -> None:
        """Called where something new is kept, in the same transaction."""

    def present(self, keys: list[str]) -> set[str]:
        """Which of the keys are there."""
        with Session(engine()) as session:
            return set(session.exec(select(ArtefactRow.key).where(col(ArtefactRow.key).in_(keys))))

    def _keep(self, key: str, data: bytes) -> None:
        self._near[key] = data
        while sum(len(v) for v in self._near.values()) > self._room and len(self._near) > 1:
            self._near.pop(next(iter(self._near)))
