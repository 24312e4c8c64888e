"""What a worker does with an entry of the queue (procrastinate): has its child compute the task, and tells the end."""

from __future__ import annotations

import contextlib
import logging
import time
from collections.abc import Callable
from typing import TypeVar

import procrastinate
from procrastinate import JobContext
from procrastinate.jobs import Job
from sqlalchemy.exc import OperationalError

from fenrik.app.settings import database_url
from fenrik.app.work import tasks
from fenrik.app.work.child import Child, Crashed, Killed, Message, Overrun, Stopped, too_much_memory
from fenrik.app.work.entries import TASK_NAME
from fenrik.app.work.tasks import Attempt
from fenrik.core.errors import Problem

REPORT_EVERY_S = 0.25
BEAT_EVERY_S, LOOK_AGAIN_S = 2.0, 0.25
T = TypeVar("T")
log = logging.getLogger(__name__)


class TryAgain(Exception):
    """The entry stays in the queue and is begun again after `wait_s`."""

    def __init__(self, wait_s: float) -> None:
        super().__init__(f"again in {wait_s:g} s")
        self.wait_s = wait_s


class _AsTold(procrastinate.BaseRetryStrategy):
    """Whether there is another attempt is the task's matter (`tasks.begin` counts them); the entry stays meanwhile."""

    def get_retry_decision(self, *, exception: BaseException, job: Job) -> procrastinate.RetryDecision | None:
        wait_s = exception.wait_s if isinstance(exception, TryAgain) else 1.0
        return procrastinate.RetryDecision(retry_in={"seconds": round(wait_s)})


child = Child("fenrik.app.work.computing:compute_task", "fenrik.core.warm:warm_process")
queue = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=database_url()))


@queue.task(name=TASK_NAME, pass_context=True, retry=_AsTold())
def compute(context: JobContext, task_id: str) -> None:
    """Compute what a task asks for: paths of operations, or everything up to the proof of a setup."""
    assert context.job.id is not None
    attempt = tasks.begin(task_id, context.job.id, context.worker_name or "")
    if attempt is None:
        return
    state, told = _told(attempt, context.should_abort)
    if state == "again":
        wait = _once_there(lambda: tasks.give_back(attempt, told, not context.should_abort()), context.should_abort)
        if wait is not None:
            raise TryAgain(wait)
        return
    words, problems = told or ("", [])
    _once_there(lambda: tasks.finish(attempt, state, words or state, problems), context.should_abort)  # type: ignore[arg-type]


def _once_there(tell: Callable[[], T], stopping: Callable[[], bool]) -> T:
    """Tell the database how an attempt ended, once it is there: an end that it is not told counts as a lost worker."""
    while True:
        try:
            return tell()
        except OperationalError:
            if stopping():
                raise
            time.sleep(LOOK_AGAIN_S)


def _told(attempt: Attempt, stopping: Callable[[], bool]) -> Message:
    """What the child says of a task, or what became of the child; a database that is away meanwhile is waited for."""
    last = beaten = 0.0

    def progress(fraction: float, words: str) -> None:
        nonlocal last
        if time.monotonic() - last >= REPORT_EVERY_S:
            last = time.monotonic()
            with contextlib.suppress(OperationalError):
                tasks.progress(attempt, fraction, words)

    def over() -> bool:
        nonlocal beaten
        with contextlib.suppress(OperationalError):
            if time.monotonic() - beaten >= BEAT_EVERY_S:
                beaten = time.monotonic()
                tasks.lives(attempt)
            return tasks.is_over(attempt)
        return False

    try:
        return child.run(attempt, progress, lambda: stopping() or over())
    except Stopped:
        return ("again", "the server was stopped") if stopping() else ("cancelled", None)
    except Overrun:
        return "failed", too_much_memory()
    except Killed:
        return "again", "its process was ended from outside"
    except Crashed:
        way_out = "Check the model for damage, or leave the row out that was being computed; other work goes on."
        return "failed", (
            "The computation crashed.",
            [Problem("computation", "crashed, likely in the CAD kernel.", way_out)],
        )
    except Exception as error:
        # The queue would try again without a word.
        log.exception("attempt %d of task %s broke off", attempt.number, attempt.task_id, exc_info=error)
        return "again", f"{type(error).__name__}: {error}"[:200]
