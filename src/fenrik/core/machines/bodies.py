"""Bodies of a machine: plain solids that move with its joints.

Places are given in the machine's frame: its origin is the middle of the table's top while all joints are at 0, and the
spindle's face stands there when the linear joints are at 0.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.frames import Points
from fenrik.core.machines.chain import Vector3

SIDES = 96
"""Corners of a round body; the corners stand outside it, so that it is never thinner than it is."""


class _Shape(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Box(_Shape):
    """A block between two corners."""

    kind: Literal["box"] = "box"
    low_mm: Vector3 = Field(title="Lowest corner", json_schema_extra={"unit": "mm"})
    high_mm: Vector3 = Field(title="Highest corner", json_schema_extra={"unit": "mm"})

    @model_validator(mode="after")
    def _has_size(self) -> Box:
        if any(not a < b for a, b in zip(self.low_mm, self.high_mm, strict=True)):
            raise ValueError("has no size: every coordinate of the highest corner must be above that of the lowest")
        return self

    def corners(self) -> Points:
        a, b = np.array(self.low_mm), np.array(self.high_mm)
        return np.array([[x, y, z] for x in (a[0], b[0]) for y in (a[1], b[1]) for z in (a[2], b[2])])


class Round(_Shape):
    """A cylinder or cone about an axis."""

    kind: Literal["round"] = "round"
    foot_mm: Vector3 = Field(title="Middle of its foot", json_schema_extra={"unit": "mm"})
    along: Vector3 = Field(default=(0.0, 0.0, 1.0), title="Axis")
    height_mm: float = Field(gt=0, le=20_000, title="Height", json_schema_extra={"unit": "mm"})
    radius_mm: float = Field(gt=0, le=10_000, title="Radius", json_schema_extra={"unit": "mm"})
    upper_radius_mm: float | None = Field(
        default=None, gt=0, le=10_000, title="Upper radius", json_schema_extra={"unit": "mm"}
    )

    def corners(self) -> Points:
        axis = np.array(self.along) / max(float(np.linalg.norm(self.along)), 1e-12)
        beside = np.cross(axis, [1.0, 0, 0] if abs(axis[0]) < 0.9 else [0.0, 1, 0])
        beside /= np.linalg.norm(beside)
        other = np.cross(axis, beside)
        t = 2 * np.pi * np.arange(SIDES) / SIDES
        ring = np.cos(t)[:, None] * beside + np.sin(t)[:, None] * other
        upper = self.upper_radius_mm or self.radius_mm
        outside = 1.0 / np.cos(np.pi / SIDES)
        foot = np.array(self.foot_mm)
        return np.vstack(
            [foot + self.radius_mm * outside * ring, foot + self.height_mm * axis + upper * outside * ring]
        )


Shape = Annotated[Box | Round, Field(discriminator="kind")]


class MachineBody(BaseModel):
    """A body of a machine."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=40, title="Name")
    moves_with: str = Field(
        default="", max_length=20, title="Moves with", description="A joint; empty: it stands still"
    )
    shapes: list[Shape] = Field(min_length=1, max_length=50, title="Shapes")


STILL = -1
"""The frame of what does not move."""


@dataclass(frozen=True)
class PlacedBody:
    """A body where it stands while all joints are at 0, in the machine's frame.

    Attributes:
        frame: number of the joint that moves it, or `STILL`.
        groups: corners (k, 3) of each of its convex shapes.
    """

    name: str
    frame: int
    groups: list[Points]


def hull_of(corners: Points) -> tuple[Points, Points]:
    """The convex hull of places: its corners (k, 3) and its triangles (m, 3), looking outwards."""
    from scipy.spatial import ConvexHull

    hull = ConvexHull(corners)
    used = np.unique(hull.simplices)
    number = np.zeros(len(corners), np.int64)
    number[used] = np.arange(len(used))
    places, triangles = corners[used], number[hull.simplices]
    normal = np.cross(
        places[triangles[:, 1]] - places[triangles[:, 0]], places[triangles[:, 2]] - places[triangles[:, 0]]
    )
    inward = np.einsum("ij,ij->i", normal, hull.equations[:, :3]) < 0
    triangles[inward] = triangles[inward][:, ::-1]
    return places, triangles
