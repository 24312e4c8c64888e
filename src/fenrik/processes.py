"""Processes beside the server: they end with their parent, give memory back at once, and leave it the right of way."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal

M_TRIM_THRESHOLD, M_MMAP_THRESHOLD = -1, -3
LARGE_BYTES = 1 << 17
PR_SET_PDEATHSIG = 1
BEHIND = 10
"""How much less urgent than the server a process that computes is."""


def give_back_early() -> None:
    """Have the C library map arrays of 128 kB and more on their own, always.

    It would raise that bound by itself as arrays come and go, and keep the holes that they leave. Where there is no
    such setting (another C library) nothing is done.
    """
    with contextlib.suppress(OSError, AttributeError):
        library = ctypes.CDLL(None)
        library.mallopt(M_MMAP_THRESHOLD, LARGE_BYTES)
        library.mallopt(M_TRIM_THRESHOLD, LARGE_BYTES)


def end_with_parent(parent: int, by: signal.Signals) -> None:
    """Have the kernel send this process a signal when its parent ends, in whatever way (prctl(2), Linux).

    Args:
        parent: its process id as the parent knows it; where it is gone already, this process ends at once.
    """
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, by)
    if os.getppid() != parent:
        os._exit(1)


def step_behind() -> None:
    """Leave the right of way to the server, which people wait for."""
    with contextlib.suppress(OSError):
        os.nice(BEHIND)
