"""The features that are recognised; places and directions in part coordinates, lengths in mm."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

Vector = tuple[float, float, float]
_FACE_LISTS = ("faces", "floor", "walls", "islands")


class Feature(BaseModel):
    """What all features have.

    `direction` points out of the material, to where the tool comes from. `accessible` is None where it was not asked.
    """

    name: str
    faces: list[int]
    direction: Vector | None = None
    accessible: bool | None = None
    why: str = Field(default="", description="why it cannot be reached")


class HoleStep(BaseModel):
    """One stretch of a hole, from its opening downwards."""

    kind: Literal[
        "bore",
        "counterbore",
        "countersink",
        "chamfer",
        "rounding",
        "taper",
        "drill point",
        "flat bottom",
        "ball bottom",
    ]
    diameter_mm: float = Field(description="the larger one where it tapers")
    lower_diameter_mm: float
    depth_mm: float = Field(description="its own length along the axis")
    angle_deg: float | None = Field(default=None, description="included angle of a cone")
    faces: list[int]


def mouth_of(steps: list[HoleStep]) -> HoleStep | None:
    """The chamfer or countersink at the opening of a hole, whose steps are given from there down."""
    return steps[0] if steps and steps[0].kind in ("chamfer", "countersink") else None


class Hole(Feature):
    """A hole with its steps from the opening down."""

    place: Vector = Field(description="centre of the opening")
    diameter_mm: float = Field(description="of the bore that goes deepest")
    depth_mm: float = Field(description="from the opening to the end of the full diameter")
    tip_depth_mm: float = Field(description="from the opening to the very end")
    through: bool
    steps: list[HoleStep]
    threads: list[str] = Field(default=[], description="threads whose tap drill this bore is")
    group: int = Field(default=0, description="alike holes have the same number")

    @property
    def signature(self) -> tuple[object, ...]:
        """What alike holes have in common."""
        steps = tuple(
            (s.kind, round(s.diameter_mm, 3), round(s.lower_diameter_mm, 3), round(s.depth_mm, 2)) for s in self.steps
        )
        return steps, self.through


class Pocket(Feature):
    """A hollow with upright walls: closed or open at a side, with a floor or through."""

    kind: Literal["pocket", "open pocket", "through pocket", "slot", "open slot", "through slot"]
    level_mm: float = Field(description="height of the floor along the direction (of the lower rim where through)")
    depth_mm: float = Field(description="down from the lowest rim")
    length_mm: float
    width_mm: float
    area_mm2: float = Field(description="of the opening seen along the direction")
    floor: list[int]
    walls: list[int]
    islands: list[list[int]] = []
    corner_radii_mm: list[float] = Field(default=[], description="upright inner corners; 0 for a sharp one")
    floor_radius_mm: float | None = None
    draft_deg: float = 0.0
    parent: str = Field(default="", description="the pocket that it lies in")


class Boss(Feature):
    """Material standing on a flat area."""

    height_mm: float
    length_mm: float
    width_mm: float
    round: bool
    island_of: str = ""


class FlatArea(Feature):
    """A flat area that looks along the direction."""

    level_mm: float
    area_mm2: float


class OuterProfile(Feature):
    """The upright walls round the part seen along the direction."""

    length_mm: float = Field(description="length of the outline")
    height_mm: float


class Chamfer(Feature):
    """Broken edges that hang together and are alike."""

    width_mm: float = Field(description="along the slope")
    angle_deg: float = Field(description="to the flatter neighbour")
    length_mm: float


class Blend(Feature):
    """Rounded edges of one radius that hang together; `concave` ones fill inner corners."""

    radius_mm: float
    concave: bool
    length_mm: float


class DraftWall(Feature):
    """Walls with draft along the direction."""

    draft_deg: float


class Undercut(Feature):
    """Area that neither this direction nor its opposite can see."""

    area_mm2: float


class Recognition(BaseModel):
    """Everything that was found."""

    holes: list[Hole] = []
    pockets: list[Pocket] = []
    bosses: list[Boss] = []
    flat_areas: list[FlatArea] = []
    outer_profiles: list[OuterProfile] = []
    chamfers: list[Chamfer] = []
    blends: list[Blend] = []
    draft_walls: list[DraftWall] = []
    undercuts: list[Undercut] = []
    directions: list[Vector] = Field(default=[], description="directions that were looked along")

    def renumbered(self, numbers: list[int]) -> Recognition:
        """The same with face `i` called `numbers[i]`."""

        def walk(value: object, field: str) -> object:
            if isinstance(value, dict):
                return {k: walk(v, k) for k, v in value.items()}
            if isinstance(value, list):
                return [walk(v, field) for v in value]
            return numbers[value] if field in _FACE_LISTS and isinstance(value, int) else value

        return Recognition.model_validate(walk(self.model_dump(), ""))

    def all(self) -> list[Feature]:
        """All features in one list."""
        return [
            *self.holes,
            *self.pockets,
            *self.bosses,
            *self.flat_areas,
            *self.outer_profiles,
            *self.chamfers,
            *self.blends,
            *self.draft_walls,
            *self.undercuts,
        ]
