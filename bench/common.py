"""What all benchmarks share: timing, and a line of figures."""

from __future__ import annotations

import os
import statistics
import time
from collections.abc import Callable


def timed(work: Callable[[], object], repeats: int = 3) -> float:
    """Median seconds of some runs."""
    seconds = []
    for _ in range(repeats):
        began = time.perf_counter()
        work()
        seconds.append(time.perf_counter() - began)
    return statistics.median(seconds)


def show(name: str, ratio: float, bar: str, detail: str) -> None:
    print(f"{name:<28} ratio {ratio:8.2f}   bar {bar:<22} {detail}", flush=True)


def address() -> str:
    return os.environ.get("FENRIK_ADDRESS", "http://127.0.0.1:8040")
