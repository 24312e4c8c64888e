"""What ends is started again: at once, and after longer and longer pauses where it ends again and again."""

import itertools

import pytest

from fenrik.app import keeping


class Ended:
    """A process that has ended as soon as it was begun."""

    def poll(self):
        return 1


@pytest.fixture
def clock(monkeypatch):
    at = [0.0]
    monkeypatch.setattr(keeping.time, "monotonic", lambda: at[0])
    return at


def starts(monkeypatch, clock, seconds, process):
    """When a command was started, looked at each half second."""
    found = []
    monkeypatch.setattr(keeping.subprocess, "Popen", lambda _words: found.append(clock[0]) or process())
    kept = keeping._Kept("worker", ["worker"])
    while clock[0] < seconds:
        kept.look()
        clock[0] += 0.5
    return found


def test_what_ends_at_once_is_started_after_pauses_that_double_up_to_half_a_minute(monkeypatch, clock):
    found = starts(monkeypatch, clock, 300, Ended)
    pauses = [b - a for a, b in itertools.pairwise(found)]
    assert pauses[0] <= 1
    assert all(b >= a for a, b in itertools.pairwise(pauses))
    assert pauses[-1] == pytest.approx(keeping.LONGEST_PAUSE_S, abs=1)
    assert len(found) < 20


def test_what_has_lived_for_a_while_is_started_again_at_once(monkeypatch, clock):
    class Lives:
        def __init__(self):
            self.ends = clock[0] + 10

        def poll(self):
            return 1 if clock[0] >= self.ends else None

    found = starts(monkeypatch, clock, 100, Lives)
    assert [b - a for a, b in itertools.pairwise(found)] == pytest.approx([10] * (len(found) - 1), abs=0.6)
