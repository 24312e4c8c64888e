"""What the tests of readers have them do; in a module that they can import."""

import os
import signal
import socket
import subprocess
import tempfile
import time
from pathlib import Path

import numba
import numpy as np


def greedy():
    return sum(len(np.ones(2**20)) for _ in [np.ones(2**20) for _ in range(100_000)])


def at_once():
    return len(np.ones(2**32))


def busy():
    while True:
        pass


def sleepy():
    time.sleep(600)


def crash():
    os.kill(os.getpid(), signal.SIGSEGV)


def outside():
    """What of the world can be reached."""
    reached = []
    for name, reach in (
        ("network", lambda: socket.create_connection(("127.0.0.1", 9), 1)),
        ("local socket", lambda: socket.socket(socket.AF_UNIX)),
        ("program", lambda: subprocess.run(["/bin/true"], check=True)),
        ("large file", lambda: Path(tempfile.gettempdir(), "large").write_bytes(bytes(2**23))),
        ("many files", lambda: [os.open(os.devnull, os.O_RDONLY) for _ in range(200)]),
    ):
        try:
            reach()
        except PermissionError:
            continue
        except OSError as error:
            if name == "network" and isinstance(error, ConnectionRefusedError):
                reached.append(name)
            continue
        reached.append(name)
    return reached


def crash_beside_threads():
    numba.get_num_threads()
    crash()


def leave_files_behind():
    Path(tempfile.mkdtemp(), "left").write_text("here")
    crash()


def add(a, b):
    return a + b
