"""Spindle speed and feed from surface speed and chip load (the trade's basic formulas)."""

from __future__ import annotations

import math

from fenrik.core.errors import fail


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


def scallop_stepover(height_mm: float, corner_mm: float) -> float:
    """Stepover on a plane that leaves scallops of `height_mm`: s = 2·√(2·r·h − h²)."""
    h = min(height_mm, corner_mm)
    return 2.0 * math.sqrt(2.0 * corner_mm * h - h * h)
