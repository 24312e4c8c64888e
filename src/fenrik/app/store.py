"""Artefacts in PostgreSQL: compressed, content-addressed, written whole or not at all."""

from __future__ import annotations

from datetime import timedelta

import zstandard
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select, update

from fenrik.app.tables import ArtefactRow, engine, now

LEVEL = 3
# PostgreSQL keeps at most 1 GiB in a value.
MAX_STORED = 900 * 1024 * 1024
FRESH = timedelta(minutes=30)


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
            new = insert(ArtefactRow).values(row).on_conflict_do_nothing().returning(col(ArtefactRow.key))
            if session.execute(new).first() is not None:
                self.kept(session)
            else:
                # Wanted again: so it is as young as one that is made now, and not cleaned up meanwhile.
                old = (col(ArtefactRow.key) == key, col(ArtefactRow.made_at) < now() - FRESH)
                session.exec(update(ArtefactRow).where(*old).values(made_at=now()))
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
