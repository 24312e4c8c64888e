"""The bodies of a tool in its holder, each a profile with a role."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from fenrik.core.tools.contour import line_through
from fenrik.core.tools.cutters import BackBoringBar, Cutter
from fenrik.core.tools.model import Tool
from fenrik.core.tools.profile import Profile, bull_nose_profile, cone_profile, profile_of

Role = Literal["cutting", "neck", "shank", "holder", "near miss"]


@dataclass(frozen=True)
class Body:
    """One body of a tool; only the cutting one takes material away."""

    role: Role
    profile: Profile


@dataclass(frozen=True)
class Assembly:
    """The bodies of a tool, heights above its tip.

    Attributes:
        cutting: what takes material away; None where nothing does.
        watched: what must not touch anything, from the tip up.
    """

    cutting: Profile | None
    watched: tuple[Body, ...] = ()

    @property
    def radius_mm(self) -> float:
        """The widest radius of all bodies."""
        return max(p.radius_mm for p in self.profiles)

    @property
    def profiles(self) -> list[Profile]:
        own = [self.cutting] if self.cutting is not None else []
        return [*own, *(b.profile for b in self.watched)]


def assembly_of(tool: Tool, near_miss_mm: float = 0.0) -> Assembly:
    """Cutter, neck, shank and holder of a tool; with a margin, the holder once more grown by it (`near miss`)."""
    bodies = [*_above_the_edges(tool.cutter), *_stations(tool), *holder_of(tool)]
    if near_miss_mm > 0:
        bodies += holder_of(tool, near_miss_mm, "near miss")
    return Assembly(cutting_profile(tool.cutter), tuple(bodies))


def wider_bodies(tool: Tool) -> list[tuple[float, float]]:
    """What of neck, shank and holder is wider than the cutter: its radius, and its lowest height over the tip."""
    bodies = [b.profile for b in assembly_of(tool).watched]
    return [(p.radius_mm, p.bottom_mm) for p in bodies if p.radius_mm > tool.cutter.radius_mm + 1e-6]


def cutting_profile(cutter: Cutter) -> Profile:
    """What of a cutter takes material away."""
    whole = profile_of(cutter.contour())
    edges = whole.between(0.0, cutter.edge_length_mm)
    assert edges is not None
    return edges


def passing_profile(cutter: BackBoringBar) -> Profile:
    """A disc round the foot of a back boring bar, about the axis of the hole that it goes through."""
    return bull_nose_profile(cutter.passing_mm / 2, 0.0, cutter.flute_length_mm)


def _above_the_edges(cutter: Cutter) -> list[Body]:
    """What a cutter's own contour has above its edges (the neck of a lollipop)."""
    whole = profile_of(cutter.contour())
    neck = whole.between(cutter.edge_length_mm, whole.top_mm)
    return [Body("neck", neck)] if neck is not None else []


def _stations(tool: Tool) -> list[Body]:
    """The smooth parts between flutes and holder; none where the flutes reach the holder."""
    found = []
    for role, diameter, low, high in tool.stations():
        profile = cone_profile(diameter / 2, diameter / 2, high - low).lifted(low)
        found.append(Body("neck" if role == "neck" else "shank", profile))
    return found


def holder_of(tool: Tool, margin_mm: float = 0.0, role: Role = "holder") -> list[Body]:
    """The holder's sections, each lifted to its place; grown by a margin sideways, up and down."""
    found, height = [], tool.stick_out_mm
    for section in tool.holder:
        lower, upper = section.lower_diameter_mm / 2 + margin_mm, section.upper_diameter_mm / 2 + margin_mm
        low, high = height - margin_mm, height + section.height_mm + margin_mm
        # A cone grown up and down stays as wide as its wider end over twice the margin.
        bend = (upper, high - 2 * margin_mm) if upper > lower else (lower, low + 2 * margin_mm)
        found.append(Body(role, profile_of(line_through((0, low), (lower, low), bend, (upper, high)))))
        height += section.height_mm
    return found
