"""One worker process. More of them, on any machine, only need the same database."""

from __future__ import annotations

from fenrik.app.queue import HEARTBEAT_S, STALLED_S, child, queue


def run_worker() -> int:
    """Take work from the queue until stopped."""
    child.start()
    with queue.open():
        queue.run_worker(
            queues=["compute"],
            concurrency=1,
            fetch_job_polling_interval=2.0,
            delete_jobs="successful",
            update_heartbeat_interval=HEARTBEAT_S,
            stalled_worker_timeout=STALLED_S,
        )
    return 0
