"""What nothing refers to any more goes: results of work that was done over, models of jobs that are gone.

What a setup was last computed from and to is written down (`UseRow`); a result that no setup uses and that is in no
release goes after some days, or as soon as all results together are over their limit. What is in use is never thrown
away: it would only be computed again.
"""

from __future__ import annotations

import logging
import os
from datetime import timedelta

from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, delete, text

from fenrik.app.tables import UseRow, engine, now

KEPT_UNUSED = timedelta(days=7)
YOUNG = timedelta(hours=1)
"""So young a result may be of work that is being done."""
DEFAULT_LIMIT_GB = 50.0
AT_ONCE = 500
log = logging.getLogger(__name__)

_UNUSED = """
    from artefact a
    where not exists (select from artefact_use u where u.key = a.key)
      and not exists (select from release r, jsonb_each_text(r.files) f where f.value = a.key)
      and a.made_at < :before
"""


def limit_bytes() -> float:
    """How much results may take in the database (`FENRIK_RESULTS_GB`)."""
    return float(os.environ.get("FENRIK_RESULTS_GB") or DEFAULT_LIMIT_GB) * 1e9


def note_use(job_id: str, setup: str, proof: str, keys: set[str]) -> None:
    """Write down what a setup was computed from and to; what it used before is not used by it any more.

    Args:
        proof: the key of its proof; where that was known before nothing has changed, and little was looked at.
    """
    with Session(engine()) as session:
        if session.get(UseRow, (job_id, setup, proof)) is None:
            session.exec(delete(UseRow).where(col(UseRow.job_id) == job_id, col(UseRow.setup) == setup))
        rows = [{"job_id": job_id, "setup": setup, "key": key} for key in sorted(keys | {proof})]
        if rows:
            session.execute(insert(UseRow).values(rows).on_conflict_do_nothing())
        session.commit()


def clean() -> int:
    """Throw away what nothing refers to; gives how many bytes that were."""
    freed = _drop(KEPT_UNUSED, float("inf"))
    over = _size() - limit_bytes()
    if over > 0:
        freed += _drop(YOUNG, over)
        if (still := _size() - limit_bytes()) > 0:
            log.warning("results in use take %.1f GB more than their limit (FENRIK_RESULTS_GB)", still / 1e9)
    _drop_models()
    if freed:
        log.info("%.1f MB of results that nothing uses were thrown away", freed / 1e6)
    return freed


def _drop(older_than: timedelta, most: float) -> int:
    """Drop unused results, the oldest first, until `most` bytes are freed; a few in each transaction."""
    freed = 0
    while freed < most:
        with Session(engine()) as session:
            found = (
                session.connection()
                .execute(
                    text(f"select a.key, octet_length(a.data) {_UNUSED} order by a.made_at limit :count"),
                    {"before": now() - older_than, "count": AT_ONCE},
                )
                .all()
            )
            keys = []
            for key, size in found:
                if freed >= most:
                    break
                keys.append(key)
                freed += size
            if not keys:
                return freed
            # What somebody has kept again meanwhile is young, and stays.
            session.connection().execute(
                text("delete from artefact where key = any(:keys) and made_at < :before"),
                {"keys": keys, "before": now() - older_than},
            )
            session.commit()
    return freed


def _size() -> float:
    with Session(engine()) as session:
        return float(
            session.connection().execute(text("select coalesce(sum(octet_length(data)), 0) from artefact")).scalar_one()
        )


def _drop_models() -> None:
    """Model files that no revision names."""
    free = """
        select m.sha from model m
        where not exists (select from revision r where r.model_sha = m.sha)
          and not exists (select from revision r, jsonb_each_text(r.files) f where f.value = m.sha)
    """
    with Session(engine()) as session:
        # Locked first, then looked at once more: one that somebody is about to name is held, and skipped.
        locked = session.connection().execute(text(f"{free} for update of m skip locked")).scalars().all()
        if locked:
            again = text(f"delete from model where sha = any(:locked) and sha in ({free})")
            session.connection().execute(again, {"locked": list(locked)})
        session.commit()
