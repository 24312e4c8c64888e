"""Processes beside the server: they end with their parent, give memory back at once, and leave it the right of way."""

from __future__ import annotations

import contextlib
import ctypes
import os
import platform
import resource
import signal
from pathlib import Path

M_TRIM_THRESHOLD, M_MMAP_THRESHOLD = -1, -3
LARGE_BYTES = 1 << 17
PR_SET_PDEATHSIG, PR_SET_NO_NEW_PRIVS, PR_SET_SECCOMP = 1, 38, 22
PAGE_MB = resource.getpagesize() / 2**20
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


def step_behind(by: int = BEHIND) -> None:
    """Leave the right of way to the server, which people wait for."""
    with contextlib.suppress(OSError):
        os.nice(by)


def memory_mb(process: int) -> float:
    """What a process holds now; 0 where it is gone."""
    try:
        words = Path(f"/proc/{process}/statm").read_text("ascii").split()
    except OSError:
        return 0.0
    return int(words[1]) * PAGE_MB


class _Instruction(ctypes.Structure):
    """A step of a filter for system calls (seccomp(2), linux/filter.h)."""

    _fields_ = (("code", ctypes.c_uint16), ("yes", ctypes.c_uint8), ("no", ctypes.c_uint8), ("value", ctypes.c_uint32))


class _Program(ctypes.Structure):
    _fields_ = (("count", ctypes.c_uint16), ("steps", ctypes.POINTER(_Instruction)))


_LOAD, _EQUAL, _AT_LEAST, _RETURN = 0x20, 0x15, 0x35, 0x06
_NUMBER, _ARCHITECTURE = 0, 4
_FILTER, _ALLOW, _NOT_PERMITTED = 2, 0x7FFF0000, 0x00050001
_OTHER_TABLE = 0x40000000
_CLOSED = {
    # Architecture, then socket, io_uring_setup, execve, execveat, ptrace (asm/unistd.h).
    "x86_64": (0xC000003E, (41, 425, 59, 322, 101)),
    "aarch64": (0xC00000B7, (198, 425, 221, 281, 117)),
}


def cut_off() -> bool:
    """Take this process the ways out for good: no network, no other program. Gives whether the system can."""
    known = _CLOSED.get(platform.machine())
    if known is None:
        return False
    architecture, numbers = known
    refuse = len(numbers) + 2
    steps = [
        _Instruction(_LOAD, 0, 0, _ARCHITECTURE),
        _Instruction(_EQUAL, 0, refuse + 1, architecture),
        _Instruction(_LOAD, 0, 0, _NUMBER),
        _Instruction(_AT_LEAST, refuse - 1, 0, _OTHER_TABLE),
        *(_Instruction(_EQUAL, refuse - 2 - k, 0, number) for k, number in enumerate(numbers)),
        _Instruction(_RETURN, 0, 0, _ALLOW),
        _Instruction(_RETURN, 0, 0, _NOT_PERMITTED),
    ]
    program = _Program(len(steps), (_Instruction * len(steps))(*steps))
    try:
        library = ctypes.CDLL(None, use_errno=True)
        if library.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0:
            return False
        return bool(library.prctl(PR_SET_SECCOMP, _FILTER, ctypes.byref(program)) == 0)
    except (OSError, AttributeError):
        return False
