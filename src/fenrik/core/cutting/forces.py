"""Chip thickness, power, torque and deflection: the trade's formulas.

Sources: Kienzle (see `materials.py`) for forces; Q = ap·ae·vf/1000, Pc = Q·kc/60000 kW and radial chip thinning
fz = hex·D/(2·√(D·ae − ae²)) as in common practice; a cantilever of stepped round bar by Euler and Bernoulli.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from fenrik.core.errors import fail

E_N_MM2 = {"carbide": 600_000.0, "HSS": 210_000.0, "cermet": 450_000.0, "CBN": 600_000.0, "diamond": 600_000.0}
"""Young's modulus of cutting materials (value from memory)."""
FLUTED_SHARE = 0.8
"""A fluted stretch bends like a smooth one of this share of its diameter (common practice)."""


def engagement_deg(width_mm: float, diameter_mm: float) -> float:
    """Arc of the cutter in material at a straight wall: arccos(1 − ae/R)."""
    share = min(max(width_mm / (diameter_mm / 2), 0.0), 2.0)
    return math.degrees(math.acos(1.0 - share))


def thinned_feed(chip_mm: float, diameter_mm: float, width_mm: float) -> float:
    """Feed for each tooth that makes the thickest chip `chip_mm`; below half immersion it must be more than that.

    Raises:
        FenrikError: when the width of cut is not above 0.
    """
    if not width_mm > 0:
        raise fail("width_mm", "must be above 0.", "Let the cutter engage.", width_mm)
    if width_mm >= diameter_mm / 2:
        return chip_mm
    return chip_mm * diameter_mm / (2.0 * math.sqrt(diameter_mm * width_mm - width_mm**2))


def mean_chip(feed_per_tooth_mm: float, diameter_mm: float, width_mm: float) -> float:
    """Mean chip thickness over the arc of engagement: fz · (1 − cos φ)/φ (removed area over arc length)."""
    angle = math.radians(engagement_deg(min(width_mm, diameter_mm), diameter_mm))
    return feed_per_tooth_mm * (1.0 - math.cos(angle)) / angle if angle > 0 else 0.0


def removal_rate(depth_mm: float, width_mm: float, feed_mm_min: float) -> float:
    """Q in cm³/min."""
    return depth_mm * width_mm * feed_mm_min / 1000.0


def milling_power(rate_cm3_min: float, kc_n_mm2: float) -> float:
    """Pc in kW."""
    return rate_cm3_min * kc_n_mm2 / 60_000.0


def drilling_power(diameter_mm: float, feed_per_turn_mm: float, surface_speed_m_min: float, kc_n_mm2: float) -> float:
    """Pc = f·vc·D·kc/240 000 in kW (common practice)."""
    return feed_per_turn_mm * surface_speed_m_min * diameter_mm * kc_n_mm2 / 240_000.0


def torque(power_kw: float, spindle_rpm: float) -> float:
    """Nm from power and speed: P·60 000/(2π·n)."""
    return power_kw * 60_000.0 / (2.0 * math.pi * spindle_rpm) if spindle_rpm > 0 else math.inf


def tangential_force(power_kw: float, surface_speed_m_min: float) -> float:
    """N, mean over a turn."""
    return power_kw * 60_000.0 / surface_speed_m_min if surface_speed_m_min > 0 else math.inf


def cantilever_deflection(
    force_n: float, stations: Sequence[tuple[float, float, float]], modulus_n_mm2: float
) -> float:
    """How far the tip of a stepped round bar bends away under a force at the tip, mm.

    Args:
        stations: (diameter, from, to) of each stretch, heights above the tip, the last one held at its top.

    For each stretch ∫ z² dz / (E·I) is added, z counting from the tip.
    """
    total = 0.0
    for diameter, low, high in stations:
        inertia = math.pi * diameter**4 / 64.0
        total += (high**3 - low**3) / (3.0 * modulus_n_mm2 * inertia)
    return force_n * total
