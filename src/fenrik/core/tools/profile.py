"""A convex profile of revolution: one description for contact, removal and collision.

The profile gives the height h(ρ) of the tool's lower surface above its tip at distance ρ from the axis, for ρ from
0 to R, as a chain of line and arc elements of growing slope; above h(R) the body is a cylinder of radius R up to
`top_mm`. Flat, ball, tapered, pointed and barrel cutters are all chains of these two elements.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.tools.contour import ARC, LINE, convex_bodies, grown_elements
from fenrik.core.tools.cutters import BackBoringBar, ChamferMill, Cutter, Drill, EngravingCutter, TaperedCutter
from fenrik.core.tools.model import Tool

# Columns of an element: ρ from, ρ to, kind, h at ρ from, slope, arc centre ρ, arc centre h, arc radius.
COLUMNS = 8


@dataclass(frozen=True)
class Profile:
    """Attributes:
    elements: (n, 8) float64; see `COLUMNS`.
    radius_mm: R, where the profile ends.
    top_mm: height of the body above the tip.
    """

    elements: Points
    radius_mm: float
    top_mm: float

    def lifted(self, height_mm: float) -> Profile:
        """The same body standing higher above the tip (shank and holder sections)."""
        elements = self.elements.copy()
        elements[:, [3, 6]] += height_mm
        return Profile(elements, self.radius_mm, self.top_mm + height_mm)


def bull_nose_profile(radius_mm: float, corner_mm: float, top_mm: float) -> Profile:
    """Flat (corner 0), ball (corner = radius) and bull-nose end as one family."""
    flat_mm = radius_mm - corner_mm
    rows = []
    if flat_mm > 0:
        rows.append([0.0, flat_mm, LINE, 0.0, 0.0, 0.0, 0.0, 0.0])
    if corner_mm > 0:
        rows.append([flat_mm, radius_mm, ARC, 0.0, 0.0, flat_mm, corner_mm, corner_mm])
    return Profile(np.array(rows), radius_mm, top_mm)


def cutter_profile(cutter: Cutter, offset_mm: float = 0.0) -> Profile:
    """The cutting part of a tool; grown by `offset_mm` on all sides (tip at the grown tip) for an allowance.

    Raises:
        FenrikError: for a cutter that is no single convex body (a centre drill, a lollipop).
    """
    profiles = cutter_profiles(cutter)
    if len(profiles) != 1 or is_undercutting(cutter):
        raise fail(
            "tool.cutter",
            f"is a {cutter.kind}, which this strategy cannot use: its contour is not a single convex body.",
            "Choose a flat, ball, bull-nose, tapered, chamfer or barrel cutter, or a drill.",
            cutter.kind,
        )
    one = profiles[0]
    if offset_mm <= 0:
        return one
    return Profile(grown_elements(one.elements, offset_mm), one.radius_mm + offset_mm, one.top_mm + offset_mm)


def cutting_profile(cutter: Cutter) -> Profile:
    """What takes material away: of a back boring bar its foot, which has an upper side; of others their whole profile.

    Raises:
        FenrikError: as `cutter_profile`.
    """
    return cutter_profiles(cutter)[0] if isinstance(cutter, BackBoringBar) else cutter_profile(cutter)


def passing_profile(cutter: BackBoringBar) -> Profile:
    """A disc round the foot of a back boring bar, about the axis of the hole that it goes through."""
    return bull_nose_profile(cutter.passing_mm / 2, 0.0, cutter.flute_length_mm)


def cutter_profiles(cutter: Cutter) -> list[Profile]:
    """The cutting part as convex bodies that together are the cutter, apart from what undercuts."""
    return [Profile(b.elements, b.radius_mm, b.top_mm) for b in convex_bodies(cutter.contour())[0]]


def is_undercutting(cutter: Cutter) -> bool:
    """Whether the cutter is narrower above than below, so that it can cut under an overhang."""
    return convex_bodies(cutter.contour())[1]


def cone_profile(lower_radius_mm: float, upper_radius_mm: float, height_mm: float) -> Profile:
    """A frustum standing on its tip plane; where it narrows upwards, the lower radius bounds it."""
    rows = [[0.0, lower_radius_mm, LINE, 0.0, 0.0, 0.0, 0.0, 0.0]]
    if upper_radius_mm > lower_radius_mm:
        slope = height_mm / (upper_radius_mm - lower_radius_mm)
        rows.append([lower_radius_mm, upper_radius_mm, LINE, 0.0, slope, 0.0, 0.0, 0.0])
    return Profile(np.array(rows), max(lower_radius_mm, upper_radius_mm), height_mm)


def shank_profiles(tool: Tool, margin_mm: float = 0.0) -> list[Profile]:
    """The smooth parts between flutes and holder; none where the flutes reach the holder."""
    return [
        cone_profile(diameter / 2 + margin_mm, diameter / 2 + margin_mm, high - low).lifted(low)
        for _, diameter, low, high in tool.stations()
    ]


def holder_profiles(tool: Tool, margin_mm: float = 0.0) -> list[Profile]:
    """The holder's sections, each a convex body lifted to its place; grown by `margin_mm`."""
    profiles, height = [], tool.stick_out_mm
    for section in tool.holder:
        body = cone_profile(
            section.lower_diameter_mm / 2 + margin_mm, section.upper_diameter_mm / 2 + margin_mm, section.height_mm
        )
        profiles.append(body.lifted(height - margin_mm))
        height += section.height_mm
    return profiles


def apt_parameters(cutter: Cutter) -> tuple[float, float, float, float, float, float, float]:
    """The seven parameters d, r, e, f, α, β, h of the APT general cutter (ISO 3592 `CUTTER/`).

    α is the angle of the end below the corner, β that of the side above it (deg); (e, f) is the corner's centre.
    Contours that the seven cannot say (barrels, own contours) are given by the cylinder round them.
    """
    r, d, h = cutter.corner_mm, cutter.diameter_mm, cutter.flute_length_mm
    if isinstance(cutter, Drill):
        return (d, 0.0, d / 2, cutter.point_mm, 90.0 - cutter.point_deg / 2, 0.0, h)
    if isinstance(cutter, ChamferMill | EngravingCutter):
        return (cutter.tip_diameter_mm, 0.0, cutter.tip_diameter_mm / 2, 0.0, 0.0, cutter.included_deg / 2, h)
    if isinstance(cutter, TaperedCutter):
        return (d, r, d / 2 - r, r, 0.0, cutter.taper_deg, h)
    return (d, r, d / 2 - r, r, 0.0, 0.0, h)


def scallop_stepover(height_mm: float, corner_mm: float) -> float:
    """Stepover on a plane that leaves scallops of `height_mm`: s = 2·√(2·r·h − h²)."""
    h = min(height_mm, corner_mm)
    return 2.0 * math.sqrt(2.0 * corner_mm * h - h * h)
