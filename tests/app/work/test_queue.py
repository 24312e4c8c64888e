"""What a worker makes of what its child says, and of what goes wrong meanwhile."""

import pytest
from sqlalchemy.exc import OperationalError

from fenrik.app.work import queue
from fenrik.app.work.tasks import Attempt

ATTEMPT = Attempt("t", 1)


@pytest.fixture
def away(monkeypatch):
    """No word of the task gets to the database; gives what was tried."""
    tried = []

    def fail(*words):
        tried.append(words)
        raise OperationalError("select", {}, Exception("the connection was closed"))

    for name in ("progress", "lives", "is_over"):
        monkeypatch.setattr(queue.tasks, name, fail)
    return tried


def test_work_goes_on_while_the_database_is_away(monkeypatch, away):
    def run(_asked, progress, stop):
        progress(0.5, "cutting")
        assert stop() is False
        return "done", None

    monkeypatch.setattr(queue.child, "run", run)
    assert queue._told(ATTEMPT, lambda: False) == ("done", None)
    assert len(away) == 2


def test_an_end_is_told_once_the_database_is_there_again(monkeypatch):
    """Else the attempt would count as one whose worker was lost, and be made again."""
    monkeypatch.setattr(queue, "LOOK_AGAIN_S", 0.0)
    tried = []

    def tell():
        tried.append(1)
        if len(tried) < 4:
            raise OperationalError("update", {}, Exception("the connection was closed"))
        return 2.5

    assert queue._once_there(tell, lambda: False) == 2.5
    assert len(tried) == 4
    tried.clear()
    with pytest.raises(OperationalError):
        queue._once_there(tell, lambda: True)
    assert len(tried) == 1


def test_what_nobody_foresaw_is_told_and_logged(monkeypatch, caplog):
    def run(*_):
        raise ValueError("odd")

    monkeypatch.setattr(queue.child, "run", run)
    assert queue._told(ATTEMPT, lambda: False) == ("again", "ValueError: odd")
    assert "attempt 1 of task t broke off" in caplog.text
