"""Cutting data for each family of tools in each material group.

All figures are common practice, from memory, meant as a start: chip load as a share of the diameter with limits, how
wide and deep to engage, and what the surface speed of the material is multiplied by.
"""

from __future__ import annotations

from dataclasses import dataclass

from fenrik.core.cutting.materials import Group

SOURCE = "common practice, from memory"
CARBIDE_TO: dict[str, float] = {"carbide": 1.0, "HSS": 0.25, "cermet": 1.2, "CBN": 1.8, "diamond": 2.5}
"""Surface speed for other cutting materials, as a share of that for carbide."""


@dataclass(frozen=True)
class CuttingData:
    """Attributes:
    speed: share of the material's surface speed.
    chip: feed for each tooth as a share of the diameter (of a whole turn for drills and reamers).
    chip_limits_mm: least and most.
    width, depth: engagement as shares of the diameter, at a middling load.
    """

    speed: float
    chip: float
    chip_limits_mm: tuple[float, float]
    width: float = 0.0
    depth: float = 0.0
    source: str = SOURCE


_MILLING: dict[Group, CuttingData] = {
    "P": CuttingData(1.0, 0.0055, (0.008, 0.15), 0.4, 0.8),
    "M": CuttingData(1.0, 0.0045, (0.008, 0.12), 0.35, 0.7),
    "K": CuttingData(1.0, 0.0060, (0.010, 0.18), 0.4, 0.8),
    "N": CuttingData(1.0, 0.0085, (0.010, 0.25), 0.5, 1.0),
    "S": CuttingData(1.0, 0.0040, (0.008, 0.10), 0.25, 0.6),
    "H": CuttingData(1.0, 0.0030, (0.005, 0.08), 0.1, 0.4),
}
_DRILLING: dict[Group, CuttingData] = {
    "P": CuttingData(0.55, 0.020, (0.02, 0.40)),
    "M": CuttingData(0.50, 0.014, (0.02, 0.25)),
    "K": CuttingData(0.60, 0.025, (0.03, 0.50)),
    "N": CuttingData(0.45, 0.025, (0.03, 0.50)),
    "S": CuttingData(0.50, 0.010, (0.02, 0.15)),
    "H": CuttingData(0.35, 0.008, (0.01, 0.12)),
}


@dataclass(frozen=True)
class Pecking:
    """How deep holes are drilled in a material group.

    Attributes:
        begins: from which depth on pecks are needed, as a share of that for steel. first: depth of the first peck in
            diameters.
    """

    begins: float
    first: float
    source: str = SOURCE


PECKING: dict[Group, Pecking] = {
    "P": Pecking(1.0, 1.0),
    "M": Pecking(0.75, 0.75),
    "K": Pecking(1.25, 1.5),
    "N": Pecking(1.25, 1.5),
    "S": Pecking(0.5, 0.5),
    "H": Pecking(0.5, 0.5),
}


def _scaled(
    base: dict[Group, CuttingData], speed: float, chip: float, width: float | None = None, depth: float | None = None
) -> dict[Group, CuttingData]:
    return {
        g: CuttingData(
            d.speed * speed,
            d.chip * chip,
            d.chip_limits_mm,
            d.width if width is None else width,
            d.depth if depth is None else depth,
        )
        for g, d in base.items()
    }


TABLE: dict[str, dict[Group, CuttingData]] = {
    "milling": _MILLING,
    "face milling": {g: CuttingData(1.1, 0.003, (0.05, 0.35), 0.7, 0.04) for g in ("P", "M", "K", "N", "S", "H")},
    "engraving": _scaled(_MILLING, 0.8, 0.8, 1.0, 0.05),
    "boring": _scaled(_DRILLING, 1.4, 0.12),
    "drilling": _DRILLING,
    "reaming": _scaled(_DRILLING, 0.25, 1.4),
    "tapping": _scaled(_DRILLING, 0.25, 0.0),
    "thread milling": _scaled(_MILLING, 0.9, 0.7, 0.1, 0.0),
}


def cutting_data(family: str, group: Group) -> CuttingData:
    """The row for a family of tools in a material group."""
    return TABLE[family][group]
