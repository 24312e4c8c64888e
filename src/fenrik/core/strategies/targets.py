"""What an operation is applied to: how a document names it, and what that is in the setup's frame."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import Annotated, Literal, get_args

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.regions import Rings
from fenrik.core.setups.grids import Instance
from fenrik.core.sketches import Curve
from fenrik.core.solids.rails import Rail
from fenrik.core.solids.references import EdgeReference, FaceReference, FaceRule


class _Target(BaseModel):
    model_config = ConfigDict(extra="forbid")


class FacesTarget(_Target):
    """Faces: floors, walls, bores."""

    kind: Literal["faces"] = "faces"
    faces: list[FaceReference | FaceRule] = Field(min_length=1, max_length=2000, title="Faces")


class EdgesTarget(_Target):
    """Edges; those that meet become one chain."""

    kind: Literal["edges"] = "edges"
    edges: list[EdgeReference] = Field(min_length=1, max_length=5000, title="Edges")


class SharpEdgesTarget(_Target):
    """The sharp edges that look upwards, of some faces or of the whole part."""

    kind: Literal["sharp edges"] = "sharp edges"
    faces: list[FaceReference | FaceRule] = Field(default_factory=list, max_length=2000, description="empty: all")


class SketchTarget(_Target):
    """Curves and points of a sketch."""

    kind: Literal["sketch"] = "sketch"
    sketch: str = Field(max_length=40, title="Sketch")
    items: list[str] = Field(default_factory=list, max_length=2000, description="empty: all of them")


class LaidTarget(_Target):
    """A sketch laid on faces, straight on from the side that it is drawn on."""

    kind: Literal["sketch on faces"] = "sketch on faces"
    sketch: str = Field(max_length=40, title="Sketch")
    items: list[str] = Field(default_factory=list, max_length=2000, description="empty: all of them")
    faces: list[FaceReference | FaceRule] = Field(
        default_factory=list, max_length=2000, description="empty: whichever it meets first"
    )


class OutlineTarget(_Target):
    """The outline of the part seen from above."""

    kind: Literal["outline"] = "outline"


Target = Annotated[
    FacesTarget | EdgesTarget | SharpEdgesTarget | SketchTarget | OutlineTarget, Field(discriminator="kind")
]
TARGET_KINDS = tuple(str(t.model_fields["kind"].default) for t in (*get_args(get_args(Target)[0]), LaidTarget))
MaterialSide = Literal["left", "right", ""]


@dataclass(frozen=True)
class Chain:
    """A curve to follow.

    Attributes:
        curve: in the setup's frame, mm.
        level: its height.
        material: on which side of it the part stands above that height; empty where on neither or both.
        below: the same just below that height.
        rim: it is the lower rim of walls or modelled chamfers.
        fillet_mm: radius of the fillet that rises from it to the wall; 0 where the wall stands on it.
    """

    curve: Curve
    level: float
    label: str
    material: MaterialSide = ""
    below: MaterialSide = ""
    rim: bool = False
    fillet_mm: float = 0.0

    @property
    def place(self) -> tuple[float, float, float]:
        x, y = self.curve.points[0]
        return float(x), float(y), self.level

    def reversed(self) -> Chain:
        other: dict[str, MaterialSide] = {"left": "right", "right": "left", "": ""}
        return replace(self, curve=self.curve.reversed(), material=other[self.material], below=other[self.below])


@dataclass(frozen=True)
class Area:
    """A region to clear down to a floor.

    Attributes:
        through: it has no floor. fenced: its edge is a wall everywhere, whatever the part is like there (sketches).
    """

    rings: Rings
    floor: float
    label: str
    through: bool = False
    fenced: bool = False

    @property
    def place(self) -> tuple[float, float, float]:
        x, y = self.rings[0].mean(axis=0)
        return float(x), float(y), self.floor


@dataclass(frozen=True)
class FarSide:
    """The far end of a through hole.

    Attributes:
        end: height where the hole ends. neck: narrowest diameter above.
        diameter: of its counterbore there. floor: height to which that reaches up; where there is none, `end`.
    """

    end: float
    neck: float
    diameter: float
    floor: float


@dataclass(frozen=True)
class HolePlace:
    """A hole (or one step of it), its axis upright.

    Attributes:
        x, y, top: centre of the opening. bottom: end of the full diameter. tip: very end. All heights.
        mouth_mm: diameter at the opening where it is chamfered or countersunk there, else 0.
        mouth_deg: included angle of that cone.
        threads: names of the threads whose tap drill it is.
        far: the far end of a through hole.
        neck: narrowest diameter above it; none is infinite.
    """

    x: float
    y: float
    top: float
    bottom: float
    tip: float
    diameter: float
    through: bool
    label: str
    mouth_mm: float = 0.0
    mouth_deg: float = 0.0
    threads: tuple[str, ...] = ()
    far: FarSide | None = None
    neck: float = math.inf

    @property
    def xy(self) -> Points:
        return np.array([self.x, self.y])

    @property
    def place(self) -> tuple[float, float, float]:
        return self.x, self.y, self.top


@dataclass(frozen=True)
class Wall:
    """Faces whose walls are followed.

    Attributes:
        corners: (m, 3, 3) of their triangles.
    """

    corners: Points
    label: str

    @property
    def place(self) -> tuple[float, float, float]:
        x, y, z = self.corners[0].mean(axis=0).tolist()
        return x, y, z


@dataclass(frozen=True)
class Ways:
    """What is followed in space, in the setup's frame, and what of it could not be used."""

    rails: list[Rail] = field(default_factory=list)
    unusable: list[Unreached] = field(default_factory=list)


@dataclass(frozen=True)
class Targets:
    """Everything that an operation's targets are, in the setup's frame, and what of them could not be used."""

    chains: list[Chain] = field(default_factory=list)
    areas: list[Area] = field(default_factory=list)
    holes: list[HolePlace] = field(default_factory=list)
    walls: list[Wall] = field(default_factory=list)
    unusable: list[Unreached] = field(default_factory=list)

    def on(self, instance: Instance) -> Targets:
        """The same on another copy of the part."""

        def moved(points: Points) -> Points:
            return instance.places(np.column_stack([points, np.zeros(len(points))]))[:, :2]

        mirrored = instance.is_mirrored
        lift = float(instance.shift[2])
        chains = []
        for c in self.chains:
            curve = Curve(moved(c.curve.points), -c.curve.bulges if mirrored else c.curve.bulges, c.curve.closed)
            chain = replace(c, curve=curve, level=c.level + lift)
            chains.append(replace(chain.reversed(), curve=curve) if mirrored else chain)
        areas = [
            replace(a, rings=[moved(r)[::-1] if mirrored else moved(r) for r in a.rings], floor=a.floor + lift)
            for a in self.areas
        ]
        holes = []
        for h in self.holes:
            x, y = moved(np.array([[h.x, h.y]]))[0]
            far = replace(h.far, end=h.far.end + lift, floor=h.far.floor + lift) if h.far else None
            there = replace(h, x=float(x), y=float(y), far=far)
            holes.append(replace(there, top=h.top + lift, bottom=h.bottom + lift, tip=h.tip + lift))
        walls = []
        for w in self.walls:
            corners = instance.places(w.corners.reshape(-1, 3)).reshape(-1, 3, 3)
            walls.append(replace(w, corners=corners[:, ::-1] if mirrored else corners))
        return Targets(chains, areas, holes, walls, self.unusable)

    @staticmethod
    def joined(parts: list[Targets]) -> Targets:
        return Targets(
            [c for p in parts for c in p.chains],
            [a for p in parts for a in p.areas],
            [h for p in parts for h in p.holes],
            [w for p in parts for w in p.walls],
            [u for p in parts for u in p.unusable],
        )
