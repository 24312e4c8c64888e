"""Memory of a process that computes: what large arrays leave goes back to the system at once."""

from __future__ import annotations

import contextlib
import ctypes

M_TRIM_THRESHOLD, M_MMAP_THRESHOLD = -1, -3
LARGE_BYTES = 1 << 17


def give_back_early() -> None:
    """Have the C library map arrays of 128 kB and more on their own, always.

    It would raise that bound by itself as arrays come and go, and keep the holes that they leave. Where there is no
    such setting (another C library) nothing is done.
    """
    with contextlib.suppress(OSError, AttributeError):
        library = ctypes.CDLL(None)
        library.mallopt(M_MMAP_THRESHOLD, LARGE_BYTES)
        library.mallopt(M_TRIM_THRESHOLD, LARGE_BYTES)
