"""What operations on picked geometry have in common: targets, keep-outs, heights, stepdown, way of milling."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar, Literal, Self

import numpy as np
from pydantic import ConfigDict, Field

from fenrik.core.frames import Points
from fenrik.core.regions.polygons import bounds_of
from fenrik.core.solids.references import FaceReference, FaceRule
from fenrik.core.strategies.common import MM, Anchors, CommonParams, End, FenceParams, Level, Picks
from fenrik.core.strategies.targets import EdgesTarget, FacesTarget, SketchTarget, Target, Targets
from fenrik.core.units import LEAST_STEP_MM

ENDS: tuple[End, End] = ("top", "bottom")
PICKED_WITHIN_MM = 0.002
"""Triangles under the operations on picked geometry; their offsets are fitted with arcs within the same."""
Milling = Literal["climb", "conventional"]


def _without_idle(schema: dict[str, Any], model: type[Any]) -> None:
    """Mark the heights that an operation does not ask for, so that no form shows them."""
    ends = [end for end in ("top", "bottom") if end not in model.heights]
    for name in (f"{end}_{what}" for end in ends for what in ("from", "mm")):
        schema["properties"][name]["idle"] = True


class TargetParams(CommonParams, FenceParams):
    """An operation on picked geometry."""

    FOLDED: ClassVar[tuple[str, ...]] = (
        "top_from",
        "top_mm",
        "bottom_from",
        "bottom_mm",
    )

    model_config = ConfigDict(json_schema_extra=_without_idle)
    uses: ClassVar[Literal["chains", "areas", "holes", "walls"]] = "chains"
    heights: ClassVar[tuple[str, ...]] = ("top", "bottom")
    targets: list[Target] = Field(
        default_factory=list, max_length=500, title="Geometry", description="Faces, edges, sketches or the outline"
    )
    top_from: Literal["stock here", "stock top", "part top", "geometry", "work zero", "a pick"] = Field(
        default="stock here", title="Top from", description="Where cutting begins"
    )
    top_pick: FaceReference | FaceRule | None = Field(default=None, title="Face for the top")
    top_mm: float = Field(default=0.0, ge=-5000, le=5000, title="Above that", json_schema_extra=MM)
    bottom_from: Literal["geometry", "part bottom", "part top", "work zero", "a pick"] = Field(
        default="geometry", title="Bottom from", description="Where cutting ends"
    )
    bottom_pick: FaceReference | FaceRule | None = Field(default=None, title="Face for the bottom")
    bottom_mm: float = Field(
        default=0.0, ge=-5000, le=5000, title="Above it", description="Below zero: deeper", json_schema_extra=MM
    )

    def picks(self) -> Picks:
        faces, edges, sketches = [], [], self.fences()
        for k, target in enumerate(self.targets):
            if isinstance(target, FacesTarget):
                faces += [(f"targets.{k}.faces.{j}", f) for j, f in enumerate(target.faces)]
            elif isinstance(target, EdgesTarget):
                edges += [(f"targets.{k}.edges.{j}", e) for j, e in enumerate(target.edges)]
            elif isinstance(target, SketchTarget):
                sketches.append(target.sketch)
        only = all(isinstance(t, FacesTarget | EdgesTarget) for t in self.targets)
        return Picks(faces, edges, sketches, whole=not only)

    def mesh_within_mm(self) -> float:
        return min(super().mesh_within_mm(), PICKED_WITHIN_MM)

    def absolute(self, zero: float, level_of: Callable[[End], float]) -> Self:
        update: dict[str, Any] = {}
        for end in ENDS:
            if getattr(self, f"{end}_from") == "a pick":
                level = level_of(end) - zero + getattr(self, f"{end}_mm")
                update |= {f"{end}_from": "work zero", f"{end}_mm": level, f"{end}_pick": None}
        return self.model_copy(update=update)

    def levels(self, anchors: Anchors, targets: Callable[[], Targets]) -> list[Level]:
        if not self.heights:
            return []
        places = self.places(anchors, targets())
        found: list[Level] = []
        if "top" in self.heights:
            tops = [self.top_at(anchors, low, high, top) for low, high, top, _ in places]
            found.append(Level("top", max(tops, default=np.nan), self.top_from))
        if "bottom" in self.heights:
            bottoms = [self.bottom_at(anchors, bottom) for *_, bottom in places]
            found.append(Level("bottom", min(bottoms, default=np.nan), self.bottom_from))
        return [level for level in found if np.isfinite(level.level_mm)]

    def places(self, anchors: Anchors, targets: Targets) -> list[tuple[Points, Points, float, float]]:
        """Rectangles (low, high corner) of what is cut, and the heights of its top and bottom."""
        return [
            *((*bounds_of(a.rings), a.floor, a.floor) for a in targets.areas),
            *((c.curve.points.min(axis=0), c.curve.points.max(axis=0), c.level, c.level) for c in targets.chains),
            *((h.xy - h.diameter / 2, h.xy + h.diameter / 2, h.top, h.bottom) for h in targets.holes),
            *(
                (low[:2], high[:2], float(high[2]), float(low[2]))
                for low, high in ((w.corners.min(axis=(0, 1)), w.corners.max(axis=(0, 1))) for w in targets.walls)
            ),
        ]

    def top_at(self, anchors: Anchors, low: Points, high: Points, level: float) -> float:
        """The height at which cutting begins, over a rectangle of geometry at a level."""
        if self.top_from == "stock here":
            return anchors.stock_over(low, high) + self.top_mm
        heights = {
            "stock top": anchors.stock_top,
            "part top": anchors.part_top,
            "geometry": level,
            "work zero": anchors.zero,
        }
        return heights[self.top_from] + self.top_mm

    @property
    def below_geometry_mm(self) -> float:
        """How far cutting goes below the geometry because that was asked for."""
        return max(-self.bottom_mm, 0.0) if self.bottom_from == "geometry" else 0.0

    def bottom_at(self, anchors: Anchors, level: float) -> float:
        """The height at which cutting ends, for geometry at a level."""
        heights = {
            "geometry": level,
            "part bottom": anchors.part_bottom,
            "part top": anchors.part_top,
            "work zero": anchors.zero,
        }
        return heights[self.bottom_from] + self.bottom_mm


class MillingParams(TargetParams):
    """A milling operation on picked geometry."""

    FOLDED: ClassVar[tuple[str, ...]] = ("milling",)

    stepdown_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=500,
        title="Stepdown",
        description="Greatest depth of one pass; empty: all at once",
        json_schema_extra=MM,
    )
    milling: Milling = Field(default="climb", title="Milling")
