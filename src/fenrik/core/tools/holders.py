"""Holders by kind and taper size, as stacked cones.

Gauge-line diameters are those of the standards: ISO 7388-1 (steep taper 7/24: 44.45 mm for size 40, 69.85 for 50,
31.75 for 30) and ISO 12164-1 (hollow taper: flange 63 or 100). Lengths and nose diameters of the noses are common
practice, from memory; measure your own before a tight job.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from fenrik.core.tools.model import HolderSection


@dataclass(frozen=True)
class StandardHolder:
    """A holder with its sections from the nose up to the spindle's face.

    Attributes:
        grips: smallest and largest shank that it takes, mm.
    """

    name: str
    taper: str
    sections: tuple[HolderSection, ...]
    grips: tuple[float, float]
    source: str


# Taper → flange diameter and thickness between nose and spindle face.
_FLANGES = {
    "ISO 30": (50.0, 16.0, "ISO 7388-1"),
    "ISO 40": (63.5, 19.0, "ISO 7388-1"),
    "ISO 50": (97.5, 19.0, "ISO 7388-1"),
    "HSK-A 63": (63.0, 26.0, "ISO 12164-1"),
    "HSK-A 100": (100.0, 29.0, "ISO 12164-1"),
}
# Nose: name → (lower ⌀, upper ⌀, length), shanks from, to.
_NOSES: dict[str, tuple[tuple[float, float, float], float, float]] = {
    "collet chuck 16": ((28, 28, 45), 1, 10),
    "collet chuck 25": ((42, 42, 50), 2, 16),
    "collet chuck 32": ((50, 50, 55), 3, 20),
    "shrink chuck 6": ((21, 27, 60), 6, 6),
    "shrink chuck 12": ((24, 32, 60), 12, 12),
    "shrink chuck 20": ((33, 42, 65), 20, 20),
    "hydraulic chuck 20": ((38, 50, 60), 20, 20),
    "face mill arbor 27": ((60, 60, 40), 27, 27),
    "drill chuck 13": ((50, 50, 75), 1, 13),
    "tap chuck 12": ((36, 40, 70), 3, 12),
}


@lru_cache(maxsize=1)
def standard_holders() -> dict[str, StandardHolder]:
    """Every nose on every taper, by name: `ISO 40 collet chuck 25`."""
    found = {}
    for taper, (flange, thickness, source) in _FLANGES.items():
        for nose, ((lower, upper, length), low, high) in _NOSES.items():
            sections = (
                HolderSection(lower_diameter_mm=lower, upper_diameter_mm=upper, height_mm=length),
                HolderSection(lower_diameter_mm=flange, upper_diameter_mm=flange, height_mm=thickness),
            )
            name = f"{taper} {nose}"
            found[name] = StandardHolder(name, taper, sections, (low, high), f"{source}; nose from memory")
    return found


def extension(lower_mm: float, upper_mm: float, length_mm: float) -> HolderSection:
    """A piece between cutter and holder."""
    return HolderSection(lower_diameter_mm=lower_mm, upper_diameter_mm=upper_mm, height_mm=length_mm)
