"""Spindle speed and feed from surface speed and chip load (the trade's basic formulas)."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail

Beside = Literal["none", "left", "right", "both"]
"""On which side of its way a tool cuts; "none" where feeds stay as they are on arcs."""
SHARP_MM = 0.05
"""A corner with a smaller radius is an edge: there is no wall along which the cutter's edge would go."""


def spindle_speed(surface_speed_m_min: float, diameter_mm: float) -> float:
    """n = 1000·vc / (π·D), in revolutions per minute.

    Raises:
        FenrikError: when the speed or the diameter is not above 0.
    """
    if not surface_speed_m_min > 0:
        raise fail("surface_speed_m_min", "must be above 0.", "Type a cutting speed.", surface_speed_m_min)
    if not diameter_mm > 0:
        raise fail("diameter_mm", "must be above 0.", "Type the cutter's diameter.", diameter_mm)
    return 1000.0 * surface_speed_m_min / (math.pi * diameter_mm)


def feed_rate(spindle_rpm: float, flutes: int, chip_load_mm: float) -> float:
    """vf = n·z·fz, in mm/min.

    Raises:
        FenrikError: when the chip load or the number of flutes is not above 0.
    """
    if not chip_load_mm > 0:
        raise fail("chip_load_mm", "must be above 0.", "Type the feed for each tooth.", chip_load_mm)
    if flutes < 1:
        raise fail("flutes", "must be at least 1.", "Type the number of teeth.", flutes)
    return spindle_rpm * flutes * chip_load_mm


def share_on_arc(
    path_radius_mm: NDArray[np.float64], tool_radius_mm: float, hollow: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """By how much the axis must go slower or faster on an arc than straight on, so that the edge at the wall goes as
    fast: vf_centre = vf · (D_hole − D_tool) / D_hole inside, vf · (D + D_tool) / D outside (common practice). Round a
    corner tighter than the tool's radius that would have no end: there it turns no faster than vf / R_tool, which is
    twice the feed where both rules meet, and the plain feed round a sharp corner, where no wall is left.

    Args:
        path_radius_mm: (n,) radius of the axis's way. hollow: (n,) whether the wall is on the outside of the arc.

    Returns:
        (n,) shares, at most 2.
    """
    path = path_radius_mm
    inside = path / (path + tool_radius_mm)
    wall = np.maximum(path - tool_radius_mm, tool_radius_mm)
    return np.where(hollow, inside, np.maximum(path / np.maximum(wall, 1e-12), 1.0))


def share_at_edge(
    path_radius_mm: NDArray[np.float64], tool_radius_mm: float, hollow: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """How fast the edge at the wall goes on an arc for each mm/min of the axis: (R + r) / R inside, (R − r) / R
    outside; round a sharp corner (R = r) there is no wall, and the axis alone counts.

    Args:
        path_radius_mm: (n,) radius of the axis's way. hollow: (n,) whether the wall is on the outside of the arc.
    """
    path = np.maximum(path_radius_mm, 1e-12)
    beyond = path - tool_radius_mm
    outside = np.where(beyond > SHARP_MM, beyond / path, 1.0)
    return np.where(hollow, (path + tool_radius_mm) / path, outside)


def scallop_stepover(height_mm: float, corner_mm: float) -> float:
    """Stepover on a plane that leaves scallops of `height_mm`: s = 2·√(2·r·h − h²)."""
    h = min(height_mm, corner_mm)
    return 2.0 * math.sqrt(2.0 * corner_mm * h - h * h)
