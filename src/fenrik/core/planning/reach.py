"""What of a part's surface a tool can touch from one side, with nothing of it in part or fixture.

For a place with its normal the tool's profile says where the tip stands when it touches there; the tip heights of
the cutter, and of shank and holder lifted to theirs, say whether it may (see `contact.drop`). Level places may be
covered by any place of a flat end.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from fenrik.core.contact import DropIndex, DropStack, tip_heights
from fenrik.core.contact.drop import DropGround
from fenrik.core.frames import Points
from fenrik.core.planning.lying import LEVEL, Mask
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.rays import RayCaster
from fenrik.core.solids.sampling import SurfacePlaces
from fenrik.core.solids.seeing import SEEN_COSINE, seen_places
from fenrik.core.tools import Tool
from fenrik.core.tools.assembly import assembly_of, cutting_profile
from fenrik.core.tools.cutters import BallCutter, BullNoseCutter, Cutter, FlatCutter
from fenrik.core.tools.profile import bull_nose_profile
from fenrik.core.tools.underside import Underside, underside_of

SLACK_MM = 0.006
"""How much slimmer the tool is taken, beyond what the triangles stray."""
BESIDE_MM = 0.05
"""How far shank and holder must stay away."""
TURNS = 12
LONG_MM = 500.0
UP = np.array([0.0, 0.0, 1.0])


@dataclass
class Reach:
    """A part (with its fixtures) seen from above.

    Attributes:
        mesh: triangles of part and fixtures in the setup's frame.
    """

    mesh: Mesh
    _bodies: dict[bytes, DropIndex] = field(default_factory=dict)

    def __post_init__(self) -> None:
        low, high = self.mesh.bounds()
        self.depth = float(high[2] - low[2])
        self.slack = SLACK_MM + 2 * self.mesh.deflection_mm
        self.rays = RayCaster(self.mesh)
        self.ground = DropGround.of(self.mesh)

    def seen(self, places: SurfacePlaces) -> Mask:
        """Places that look up or stand upright and have nothing over them."""
        return seen_places(self.rays, places, UP, self.slack)

    def touched(self, tool: Tool, places: SurfacePlaces) -> Mask:
        """Places that a flat, ball or bull-nose mill can touch; none for other tools."""
        cutter = tool.cutter
        radius, corner = cutter.radius_mm, min(cutter.corner_mm, cutter.radius_mm)
        n, p = places.normal, places.place
        level, flat = n[:, 2] > LEVEL, np.hypot(n[:, 0], n[:, 1])
        out = n[:, :2] / np.maximum(flat, 1e-12)[:, None]
        # On a slope the round corner touches where it has the same slope; upright walls are touched over it.
        rise = corner * (1 - np.clip(n[:, 2], 0.0, 1.0))
        aside = radius - corner + corner * flat
        tips = np.column_stack([p[:, :2] + out * aside[:, None], p[:, 2] - rise])
        bodies = self._bodies_of(tool)
        good = np.zeros(len(p), bool)
        slope = np.flatnonzero(~level & (n[:, 2] > SEEN_COSINE))
        good[slope] = self._is_free(bodies, tips[slope])
        flats = np.flatnonzero(level)
        good[flats] = self._covers(bodies, p[flats], radius - corner)
        return good

    def stands_free(self, tool: Tool, tips: Points, cutter: bool = True) -> Mask:
        """Whether a tool of any kind is free with its tip at places (n, 3): all of it, or what is over its cutter."""
        bodies = self._bodies_of(tool)
        return self._is_free(bodies if cutter else DropStack(bodies.parts[1:]), tips)

    def _covers(self, bodies: DropStack, places: Points, end: float) -> Mask:
        """Level places that a flat end (its radius) covers from some place beside them."""
        good = self._is_free(bodies, places)
        turn = 2 * np.pi * np.arange(TURNS) / TURNS
        for share in (0.97, 0.5) if end > 0 else ():
            for t in turn:
                left = np.flatnonzero(~good)
                shift = share * end * np.array([np.cos(t), np.sin(t), 0.0])
                good[left] = self._is_free(bodies, places[left] + shift)
        return good

    def _is_free(self, bodies: DropStack, tips: Points) -> Mask:
        """Whether bodies are free with their tool at places; what one body forbids is not asked of others."""
        good = np.ones(len(tips), bool)
        for body, above in bodies.parts:
            rows = np.flatnonzero(good)
            most = tips[rows, 2] + above + self.slack
            good[rows] = tip_heights(body, tips[rows, :2], most, np.nextafter(most, np.inf)) <= most
        return good

    def _bodies_of(self, tool: Tool) -> DropStack:
        """The bodies of a tool made ready, the cutter first."""
        # Flat from the axis to the rim, whatever the underside of a holder: wide enough for any.
        discs = [
            (self._body(p.radius_mm + BESIDE_MM, 0.0), p.bottom_mm)
            for p in (b.profile for b in assembly_of(tool).watched)
            if p.bottom_mm < self.depth
        ]
        return DropStack(((self._cutter(tool.cutter), 0.0), *discs))

    def _cutter(self, cutter: Cutter) -> DropIndex:
        """A cutter, mills a little slimmer, so that they are free where they touch."""
        if not isinstance(cutter, FlatCutter | BallCutter | BullNoseCutter):
            return self._ready(underside_of(cutting_profile(cutter)))
        radius = max(cutter.radius_mm - self.slack, 0.1 * cutter.radius_mm)
        return self._body(radius, min(cutter.corner_mm, radius * 0.999))

    def _body(self, radius_mm: float, corner_mm: float) -> DropIndex:
        """A round body with a corner; how long it is makes no difference from above."""
        return self._ready(underside_of(bull_nose_profile(radius_mm, corner_mm, LONG_MM)))

    def _ready(self, underside: Underside) -> DropIndex:
        """The part made ready for an underside, once for each."""
        key = underside.elements.tobytes()
        if key not in self._bodies:
            self._bodies[key] = self.ground.index(underside)
        return self._bodies[key]
