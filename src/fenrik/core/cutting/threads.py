"""Threads: sizes, diameters and tap drills.

Sources: ISO 68-1 (profile), ISO 261 (sizes and pitches), ISO 724 (D2 = D − 0.649519·P, D1 = D − 1.082532·P), ASME B1.1
(unified sizes), ISO 2306 (tap drills for metric threads); unified tap drills are common practice.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

MM_PER_INCH = 25.4
PITCH_FACTOR, MINOR_FACTOR = 0.649519, 1.082532


@dataclass(frozen=True)
class Thread:
    """A standard thread.

    Attributes:
        name: as on a drawing, `M6` or `1/4-20 UNC`.
        series: metric coarse, metric fine, UNC, UNF.
        major_mm, pitch_mm: nominal diameter D and pitch P.
        tap_drill_mm: drill before tapping.
    """

    name: str
    series: str
    major_mm: float
    pitch_mm: float
    tap_drill_mm: float

    @property
    def pitch_diameter_mm(self) -> float:
        """D2 of ISO 724."""
        return self.major_mm - PITCH_FACTOR * self.pitch_mm

    @property
    def minor_mm(self) -> float:
        """D1 of ISO 724."""
        return self.major_mm - MINOR_FACTOR * self.pitch_mm


_COARSE = (
    (1.6, 0.35, 1.25), (2, 0.4, 1.6), (2.5, 0.45, 2.05), (3, 0.5, 2.5), (4, 0.7, 3.3), (5, 0.8, 4.2), (6, 1, 5.0),
    (8, 1.25, 6.8), (10, 1.5, 8.5), (12, 1.75, 10.2), (14, 2, 12.0), (16, 2, 14.0), (18, 2.5, 15.5), (20, 2.5, 17.5),
    (22, 2.5, 19.5), (24, 3, 21.0), (27, 3, 24.0), (30, 3.5, 26.5), (33, 3.5, 29.5), (36, 4, 32.0), (39, 4, 35.0),
    (42, 4.5, 37.5), (48, 5, 43.0),
)  # fmt: skip
_FINE = (
    (8, 1, 7.0), (10, 1, 9.0), (10, 1.25, 8.8), (12, 1.25, 10.8), (12, 1.5, 10.5), (14, 1.5, 12.5), (16, 1.5, 14.5),
    (18, 1.5, 16.5), (20, 1.5, 18.5), (24, 2, 22.0), (30, 2, 28.0),
)  # fmt: skip
_UNIFIED = (
    ("#4-40 UNC", 0.112, 40, 0.0890), ("#6-32 UNC", 0.138, 32, 0.1065), ("#8-32 UNC", 0.164, 32, 0.1360),
    ("#10-24 UNC", 0.190, 24, 0.1495), ("1/4-20 UNC", 0.250, 20, 0.2010), ("5/16-18 UNC", 0.3125, 18, 0.2570),
    ("3/8-16 UNC", 0.375, 16, 0.3125), ("7/16-14 UNC", 0.4375, 14, 0.3680), ("1/2-13 UNC", 0.5, 13, 0.4219),
    ("5/8-11 UNC", 0.625, 11, 0.5312), ("3/4-10 UNC", 0.75, 10, 0.6562), ("#10-32 UNF", 0.190, 32, 0.1590),
    ("1/4-28 UNF", 0.250, 28, 0.2130), ("5/16-24 UNF", 0.3125, 24, 0.2720), ("3/8-24 UNF", 0.375, 24, 0.3320),
    ("1/2-20 UNF", 0.5, 20, 0.4531),
)  # fmt: skip


@lru_cache(maxsize=1)
def standard_threads() -> dict[str, Thread]:
    """All threads that Fenrik knows, by name."""
    coarse = [Thread(f"M{d:g}", "metric coarse", d, p, drill) for d, p, drill in _COARSE]
    fine = [Thread(f"M{d:g}×{p:g}", "metric fine", d, p, drill) for d, p, drill in _FINE]
    unified = [
        Thread(name, name[-3:], d * MM_PER_INCH, MM_PER_INCH / tpi, drill * MM_PER_INCH)
        for name, d, tpi, drill in _UNIFIED
    ]
    return {t.name: t for t in (*coarse, *fine, *unified)}


def threads_for_bore(diameter_mm: float, tolerance_mm: float = 0.03) -> list[Thread]:
    """Threads whose tap drill, or whose minor diameter D1, a bore has; metric coarse first."""
    order = ("metric coarse", "metric fine", "UNC", "UNF")
    fits = [
        t
        for t in standard_threads().values()
        if min(abs(diameter_mm - t.tap_drill_mm), abs(diameter_mm - t.minor_mm)) <= tolerance_mm
    ]
    return sorted(fits, key=lambda t: (order.index(t.series), t.major_mm))
