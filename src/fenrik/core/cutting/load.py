"""One load setting, from cautious to hard, turned into speeds, feeds and engagement within all limits.

The load scales chip thickness and engagement. Then each limit in turn (spindle speed, feed, torque, power, bending of
the tool) takes back what it must, and every number says which limit bound it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from pydantic import BaseModel, Field, computed_field

from fenrik.core.cutting import forces
from fenrik.core.cutting.data import CARBIDE_TO, cutting_data
from fenrik.core.cutting.materials import Material, specific_force
from fenrik.core.units import LEAST_FEED_MM_MIN, LEAST_SPINDLE_RPM

MOST_BENDING_MM = 0.03
THIN_CHIP_MM = 0.005
POWER_RESERVE = 0.9
MOST_ROUNDS = 60


@dataclass(frozen=True)
class Cutting:
    """What of a tool matters for its cutting data.

    Attributes:
        family: milling, drilling …
        stations: (diameter, from, to) of each stretch between tip and holder.
        pitch_mm: of a tap.
    """

    family: str
    diameter_mm: float
    flutes: int
    flute_length_mm: float
    cutting_material: str
    stations: tuple[tuple[float, float, float], ...]
    pitch_mm: float | None = None


@dataclass(frozen=True)
class Limits:
    """What a machine gives; the least of speed and feed is what a program can say."""

    spindle_max_rpm: float
    max_feed_mm_min: float
    power_kw: float
    torque_nm: float
    spindle_min_rpm: float = LEAST_SPINDLE_RPM


class Number(BaseModel):
    """A proposed number: what bound it, and what to know about it."""

    value: float
    unit: str
    bound: str = Field(default="", description="the limit that held it back; empty: none")
    warning: str = ""

    @computed_field  # type: ignore[prop-decorator]
    @property
    def taken(self) -> float:
        """As a row or a tool takes it: whole, or with three digits where it is small: a slow feed is no feed of 0."""
        return round(self.value) if self.value >= 100 else float(f"{self.value:.3g}")


class Proposal(BaseModel):
    """Speeds, feeds and engagement for a tool in a material, with what they cost."""

    spindle_rpm: Number
    cutting_feed_mm_min: Number
    chip_load_mm: Number
    width_mm: Number
    depth_mm: Number
    surface_speed_m_min: Number
    mean_chip_mm: float
    removal_cm3_min: float
    power_kw: Number
    torque_nm: Number
    force_n: float
    bending_mm: Number
    source: str


def propose(tool: Cutting, material: Material, limits: Limits, load: float = 0.5) -> Proposal:
    """Cutting data for a tool.

    Args:
        load: 0 cautious, 1 hard.
    """
    load = min(max(load, 0.0), 1.0)
    row = cutting_data(tool.family, material.group)
    rpm, rpm_bound = _spindle(tool, material, limits, row.speed)
    if tool.family in ("drilling", "reaming", "tapping", "boring"):
        return _axial(tool, material, limits, load, rpm, rpm_bound)
    chip = min(max(row.chip * tool.diameter_mm * (0.6 + 0.8 * load), row.chip_limits_mm[0]), row.chip_limits_mm[1])
    width = row.width * tool.diameter_mm * (0.5 + load)
    depth = min(row.depth * tool.diameter_mm * (0.5 + load), tool.flute_length_mm)
    width = min(width, tool.diameter_mm)
    depth_bound = "cutting length" if depth >= tool.flute_length_mm - 1e-9 else ""
    fed = forces.thinned_feed(chip, tool.diameter_mm, width)
    feed = fed * tool.flutes * rpm
    feed_bound = ""
    if feed > limits.max_feed_mm_min:
        feed, feed_bound = limits.max_feed_mm_min, "feed"
    if feed < LEAST_FEED_MM_MIN:
        feed, feed_bound = LEAST_FEED_MM_MIN, "least feed"
    for _ in range(MOST_ROUNDS):
        cost = milling_cost(tool, material, rpm, feed, width, depth)
        excess = _excess(cost, limits)
        if excess is None:
            break
        depth_bound, share = excess
        depth *= max(share, 0.5)
    return _as_proposal(tool, material, limits, rpm, rpm_bound, feed, feed_bound, width, depth, depth_bound, row.source)


@dataclass(frozen=True)
class Cost:
    """What a cut takes of machine and tool."""

    mean_chip_mm: float
    removal_cm3_min: float
    power_kw: float
    torque_nm: float
    force_n: float
    bending_mm: float


def milling_cost(
    tool: Cutting, material: Material, rpm: float, feed_mm_min: float, width_mm: float, depth_mm: float
) -> Cost:
    """Chip, power, torque, force and bending of a milling cut."""
    tooth = feed_mm_min / (rpm * tool.flutes)
    chip = forces.mean_chip(tooth, tool.diameter_mm, width_mm)
    rate = forces.removal_rate(depth_mm, width_mm, feed_mm_min)
    power = forces.milling_power(rate, specific_force(material, max(chip, 1e-4)))
    speed = math.pi * tool.diameter_mm * rpm / 1000.0
    force = forces.tangential_force(power, speed)
    modulus = forces.E_N_MM2[tool.cutting_material]
    return Cost(
        chip, rate, power, forces.torque(power, rpm), force, forces.cantilever_deflection(force, tool.stations, modulus)
    )


def _spindle(tool: Cutting, material: Material, limits: Limits, share: float) -> tuple[float, str]:
    speed = material.surface_speed_m_min * share * CARBIDE_TO[tool.cutting_material]
    rpm = 1000.0 * speed / (math.pi * tool.diameter_mm)
    if rpm > limits.spindle_max_rpm:
        return limits.spindle_max_rpm, "spindle speed"
    if rpm < limits.spindle_min_rpm:
        return limits.spindle_min_rpm, "least spindle speed"
    return rpm, ""


def _excess(cost: Cost, limits: Limits) -> tuple[str, float] | None:
    """The limit that is passed by most, and the share that would keep it; None where all hold."""
    shares = {
        "power": POWER_RESERVE * limits.power_kw / max(cost.power_kw, 1e-12),
        "torque": POWER_RESERVE * limits.torque_nm / max(cost.torque_nm, 1e-12),
        "stick-out": MOST_BENDING_MM / max(cost.bending_mm, 1e-12),
    }
    name = min(shares, key=lambda k: shares[k])
    return (name, shares[name]) if shares[name] < 1 - 1e-6 else None


def _as_proposal(
    tool: Cutting,
    material: Material,
    limits: Limits,
    rpm: float,
    rpm_bound: str,
    feed: float,
    feed_bound: str,
    width: float,
    depth: float,
    depth_bound: str,
    source: str,
) -> Proposal:
    cost = milling_cost(tool, material, rpm, feed, width, depth)
    return Proposal(
        spindle_rpm=Number(value=rpm, unit="rpm", bound=rpm_bound),
        cutting_feed_mm_min=Number(value=feed, unit="mm/min", bound=feed_bound),
        chip_load_mm=Number(value=feed / (rpm * tool.flutes), unit="mm", bound=feed_bound),
        width_mm=Number(value=width, unit="mm"),
        depth_mm=Number(value=depth, unit="mm", bound=depth_bound),
        surface_speed_m_min=Number(value=math.pi * tool.diameter_mm * rpm / 1000.0, unit="m/min", bound=rpm_bound),
        mean_chip_mm=cost.mean_chip_mm,
        removal_cm3_min=cost.removal_cm3_min,
        power_kw=Number(value=cost.power_kw, unit="kW", bound="power" if depth_bound == "power" else ""),
        torque_nm=Number(value=cost.torque_nm, unit="Nm", bound="torque" if depth_bound == "torque" else ""),
        force_n=cost.force_n,
        bending_mm=Number(value=cost.bending_mm, unit="mm", bound="stick-out" if depth_bound == "stick-out" else ""),
        source=source,
    )


def _axial(tool: Cutting, material: Material, limits: Limits, load: float, rpm: float, rpm_bound: str) -> Proposal:
    """Drills, reamers, taps and boring heads: feed for each turn along the axis."""
    row = cutting_data(tool.family, material.group)
    turn = row.chip * tool.diameter_mm * (0.6 + 0.8 * load)
    turn = min(max(turn, row.chip_limits_mm[0]), row.chip_limits_mm[1])
    feed_bound = ""
    least_rpm = limits.spindle_min_rpm
    if tool.family == "tapping" and tool.pitch_mm:  # the pitch cannot give way, so the spindle must
        turn = tool.pitch_mm
        least_rpm = max(least_rpm, LEAST_FEED_MM_MIN / turn)
        if rpm < least_rpm:
            rpm, rpm_bound = least_rpm, "least feed"
    elif turn * rpm < LEAST_FEED_MM_MIN:
        turn, feed_bound = LEAST_FEED_MM_MIN / rpm, "least feed"
    for _ in range(MOST_ROUNDS):
        feed = turn * rpm
        kc = specific_force(material, max(turn / 2, 1e-4))
        speed = math.pi * tool.diameter_mm * rpm / 1000.0
        power = forces.drilling_power(tool.diameter_mm, turn, speed, kc)
        moment = forces.torque(power, rpm)
        over = max(
            (feed / limits.max_feed_mm_min, "feed"),
            (power / (POWER_RESERVE * limits.power_kw), "power"),
            (moment / (POWER_RESERVE * limits.torque_nm), "torque"),
        )
        if over[0] <= 1 + 1e-6:
            break
        feed_bound = over[1]
        if tool.family == "tapping":  # the pitch cannot give way
            if over[1] == "torque":
                break
            rpm, rpm_bound = max(rpm / over[0], least_rpm), over[1]
        else:
            turn = max(turn * max(0.5, 0.98 / over[0]), LEAST_FEED_MM_MIN / rpm)
    chip = Number(value=turn / tool.flutes, unit="mm", bound=feed_bound)
    return Proposal(
        spindle_rpm=Number(value=rpm, unit="rpm", bound=rpm_bound),
        cutting_feed_mm_min=Number(value=turn * rpm, unit="mm/min", bound=feed_bound),
        chip_load_mm=chip,
        width_mm=Number(value=tool.diameter_mm, unit="mm"),
        depth_mm=Number(value=tool.flute_length_mm, unit="mm", bound="cutting length"),
        surface_speed_m_min=Number(value=math.pi * tool.diameter_mm * rpm / 1000.0, unit="m/min", bound=rpm_bound),
        mean_chip_mm=turn / 2,
        removal_cm3_min=math.pi / 4 * tool.diameter_mm**2 * turn * rpm / 1000.0,
        power_kw=Number(value=power, unit="kW", bound="power" if feed_bound == "power" else ""),
        torque_nm=Number(value=moment, unit="Nm", bound="torque" if feed_bound == "torque" else ""),
        force_n=kc * turn * tool.diameter_mm / 4,
        bending_mm=Number(value=0.0, unit="mm"),
        source=row.source,
    )


def warnings_for(
    tool: Cutting,
    material: Material,
    limits: Limits,
    rpm: float,
    feed_mm_min: float,
    width_mm: float | None = None,
    depth_mm: float | None = None,
) -> dict[str, str]:
    """What is wrong with numbers that somebody typed, by field; empty where nothing is."""
    found: dict[str, str] = {}
    if rpm > limits.spindle_max_rpm:
        found["spindle_rpm"] = f"The machine turns at most {limits.spindle_max_rpm:.0f} rpm."
    if feed_mm_min > limits.max_feed_mm_min:
        found["cutting_feed_mm_min"] = f"The machine feeds at most {limits.max_feed_mm_min:.0f} mm/min."
    axial = tool.family in ("drilling", "reaming", "tapping", "boring")
    if rpm <= 0 or axial:
        return found
    tooth = feed_mm_min / (rpm * tool.flutes)
    row = cutting_data(tool.family, material.group)
    width = width_mm if width_mm is not None else row.width * tool.diameter_mm
    depth = depth_mm if depth_mm is not None else row.depth * tool.diameter_mm
    cost = milling_cost(tool, material, rpm, feed_mm_min, min(width, tool.diameter_mm), depth)
    if cost.mean_chip_mm < THIN_CHIP_MM:
        found.setdefault(
            "cutting_feed_mm_min",
            f"The chip is {1000 * cost.mean_chip_mm:.1f} µm thick on average: the cutter rubs. Feed faster.",
        )
    elif tooth > 1.5 * row.chip_limits_mm[1]:
        found.setdefault(
            "cutting_feed_mm_min", f"Each tooth takes {tooth:.3f} mm; {row.chip_limits_mm[1]:g} mm is usual at most."
        )
    if cost.power_kw > limits.power_kw:
        found["power_kw"] = f"Takes {cost.power_kw:.1f} kW; the machine has {limits.power_kw:g} kW."
    if cost.torque_nm > limits.torque_nm:
        found["torque_nm"] = f"Takes {cost.torque_nm:.1f} Nm; the machine has {limits.torque_nm:g} Nm."
    if cost.bending_mm > MOST_BENDING_MM:
        found["bending_mm"] = (
            f"At {width:.1f} × {depth:.1f} mm the tool bends by {cost.bending_mm:.3f} mm. Shorten it or cut less."
        )
    return found
