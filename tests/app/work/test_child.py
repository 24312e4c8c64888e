"""A worker's child is ended in the middle of anything, and its crash or greed is the failure of one task alone."""

import os
import subprocess
import sys
import time

import psutil
import pytest

from cluster import outliving
from fenrik.app.work.child import IDLE_S, Child, Crashed, Overrun, Stopped


@pytest.fixture
def child():
    made = Child("child_work:work")
    yield made
    made.close()


def never():
    return False


def test_work_is_done_and_tells_how_far_it_is(child):
    told = []
    assert child.run("add", lambda f, w: told.append((f, w)), never)[1][0] == "add"
    assert told == [(0.5, "half")]


@pytest.mark.parametrize("idle", [True, False])
def test_it_makes_itself_ready_when_nothing_is_asked_at_its_start(idle):
    child = Child("child_work:warmed", "child_work:warm")
    try:
        child.start()
        if idle:
            time.sleep(IDLE_S + 10.0)
        assert child.run("tell", lambda f, w: None, never)[1] == idle
    finally:
        child.close()


def test_it_is_stopped_inside_the_cad_kernel_and_the_next_work_is_done(child):
    began = []

    def progress(fraction, words):
        began.append(time.monotonic())

    with pytest.raises(Stopped):
        child.run("mesh", progress, lambda: bool(began) and time.monotonic() - began[0] > 1.0)
    assert child.run("add", lambda f, w: None, never)[0] == "done"


def test_a_crash_is_told_and_the_next_work_is_done(child):
    with pytest.raises(Crashed):
        child.run("crash", lambda f, w: None, never)
    assert child.run("add", lambda f, w: None, never)[0] == "done"


def test_greed_is_told_and_the_next_work_is_done(child, monkeypatch):
    monkeypatch.setenv("FENRIK_TASK_MEMORY_MB", "1500")
    with pytest.raises(Overrun):
        child.run("greed", lambda f, w: None, never)
    assert child.run("add", lambda f, w: None, never)[0] == "done"


def test_work_that_nobody_could_follow_is_not_taken_for_the_next(child):
    """The database is gone while progress is written down: what the child still says must not answer the next task."""

    def lost(fraction, words):
        raise OSError("the database is gone")

    with pytest.raises(OSError, match="gone"):
        child.run("add", lost, never)
    assert child.run("other", lambda f, w: None, never)[1][0] == "other"


def test_the_child_goes_with_its_worker():
    code = (
        "import sys; sys.path.insert(0, sys.argv[1])\n"
        "from fenrik.app.work.child import Child\n"
        "if __name__ == '__main__':\n"
        "    Child('child_work:work').run('sleep', lambda f, w: print('begun', flush=True), lambda: False)\n"
    )
    worker = subprocess.Popen(
        [sys.executable, "-c", code, os.path.dirname(__file__)], stdout=subprocess.PIPE, text=True
    )
    assert worker.stdout is not None
    assert worker.stdout.readline() == "begun\n"
    children = psutil.Process(worker.pid).children(recursive=True)
    assert children
    worker.kill()
    worker.wait()
    assert outliving(children, 20) == []
