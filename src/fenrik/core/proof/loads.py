"""How hard each motion of a path works the cutter: engagement, chip, feed, removal.

The engagement is what its strategy planned, which is exact; else what the rays of the stock tell, to about a cell of
it. The thickest chip of a tooth is fz · sin φ up to a right angle of engagement, fz beyond (ISO 3002-3).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pydantic import BaseModel, Field
from scipy import ndimage

from fenrik.core.frames import Points
from fenrik.core.toolpath import Kind, Toolpath

OVER = 1.05
"""More than so many times what is to be held counts as above it."""
WINDOW_CELLS = 2.0
"""A single motion may be shorter than the stock is fine: removal and engagement are those of so long a stretch."""
APART_RADII = 1.0
"""Places above are told as one that are no farther apart."""


@dataclass(frozen=True)
class Loads:
    """Of each motion (n,): engagement in degrees, thickest chip in mm, feed in mm/min, removal in mm³/s."""

    engagement_deg: Points
    chip_mm: Points
    feed_mm_min: Points
    removal_mm3_s: Points


class LoadPlace(BaseModel):
    """Where the engagement is above what is to be held: the first motion of a stretch, its most, and the place."""

    motion: int
    engagement_deg: float
    place: tuple[float, float, float]


class LoadSummary(BaseModel):
    """The load of a row in few words."""

    most_deg: float
    target_deg: float | None = Field(default=None, description="what the row holds; None: nothing is said of it")
    planned: bool = Field(default=False, description="whether the engagement is planned, not measured on the stock")
    above: list[LoadPlace] = Field(default_factory=list, description="where it is above that")
    slot_mm: float = Field(default=0.0, description="length of cuts at the full width of the tool")


def loads_of(path: Toolpath, took_mm3: Points, engaged_deg: Points, cell_mm: float, rpm: float, flutes: int) -> Loads:
    """The loads of a path.

    Args:
        took_mm3, engaged_deg: (n,) as the stock tells them. cell_mm: of the stock.
    """
    planned = np.isfinite(path.held_deg)
    length = path.lengths()
    # Motions are as good as even in length where they are short, so a window of motions does.
    short = np.minimum(length[length > 1e-9], WINDOW_CELLS * cell_mm)
    wide = 1 if len(short) == 0 else int(np.clip(np.ceil(WINDOW_CELLS * cell_mm / np.median(short)), 1, 99))
    cuts = path.kind == Kind.CUT
    measured = ndimage.maximum_filter1d(np.where(cuts, engaged_deg, 0.0), wide) if len(path) else engaged_deg
    held = np.where(cuts & planned, path.held_deg, np.where(cuts & (took_mm3 >= 0), measured, 0.0))
    feed = np.where(path.kind == Kind.RAPID, 0.0, path.feed)
    seconds = 60.0 * length / np.maximum(feed, 1e-9)
    wide_took, wide_time = (ndimage.uniform_filter1d(np.where(cuts, v, 0.0), wide) for v in (took_mm3, seconds))
    rate = np.where(cuts, wide_took / np.maximum(wide_time, 1e-9), 0.0)
    tooth = feed / max(rpm * flutes, 1e-9)
    chip = np.where(held > 0, tooth * np.sin(np.deg2rad(np.minimum(held, 90.0))), 0.0)
    return Loads(held, chip, feed, rate)


def summary_of(path: Toolpath, loads: Loads, target_deg: float | None, radius_mm: float) -> LoadSummary:
    """The load of a row in few words.

    Args:
        target_deg: what it holds; None where it holds nothing.
    """
    cuts = path.kind == Kind.CUT
    held = np.where(cuts, loads.engagement_deg, 0.0)
    planned = bool(np.isfinite(path.held_deg[cuts]).any())
    slot = float(path.lengths()[cuts & (held > 175.0)].sum())
    above = [] if target_deg is None else _above(path, held, OVER * target_deg, APART_RADII * radius_mm)
    most = float(held.max(initial=0.0))
    return LoadSummary(most_deg=most, target_deg=target_deg, planned=planned, above=above, slot_mm=slot)


def _above(path: Toolpath, held: Points, limit: float, apart_mm: float) -> list[LoadPlace]:
    """Stretches above a limit, those near one another as one, with the worst of each."""
    found: list[LoadPlace] = []
    travel = np.cumsum(path.lengths())
    last = -np.inf
    for k in np.flatnonzero(held > limit).tolist():
        place = LoadPlace(motion=k, engagement_deg=float(held[k]), place=tuple(path.point[k].tolist()))
        if travel[k] - last > apart_mm:
            found.append(place)
        elif held[k] > found[-1].engagement_deg:
            found[-1] = place
        last = travel[k]
    return found
