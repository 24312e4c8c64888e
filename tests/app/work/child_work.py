"""What the tests of a worker's child have it do; in a module that the child can import."""

import os
import signal
import time

import numpy as np

WARMED = []


def warm():
    """What a child does that nothing is asked of."""
    WARMED.append(os.getpid())


def warmed(asked, progress):
    """Tells what `warm` did in this child."""
    return "done", [os.getpid()] == WARMED


def work(asked, progress):
    """What the tests have the child do."""
    progress(0.5, "half")
    if asked == "mesh":
        # In Open CASCADE for minutes, without a chance to look up.
        from OCP.BRepMesh import BRepMesh_IncrementalMesh
        from OCP.BRepPrimAPI import BRepPrimAPI_MakeTorus

        BRepMesh_IncrementalMesh(BRepPrimAPI_MakeTorus(400.0, 100.0).Shape(), 1e-4, False, 0.1, False)
    elif asked == "crash":
        os.kill(os.getpid(), signal.SIGSEGV)
    elif asked == "greed":
        _ = [np.ones(2**20) for _ in range(100_000)]
    elif asked == "sleep":
        time.sleep(600)
    return "done", (asked, os.getpid())
