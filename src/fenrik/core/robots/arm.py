"""An arm as data: six joints by its link table, or by the axes of a URDF file.

Poses are those of the flange in the base's frame: a rotation matrix and a place. While all joints are at 0 the arm
stands as its table, or its file, has it; every joint is then an axis in space (a screw), and the pose of the flange
is the product of the exponentials of all six and the pose at 0 (R. M. Murray, Z. Li, S. S. Sastry, A Mathematical
Introduction to Robotic Manipulation, chapter 3).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator
from scipy.spatial.transform import Rotation

from fenrik.core.frames import Points

JOINTS = 6
Vector3 = tuple[float, float, float]


@dataclass(frozen=True)
class Screws:
    """The axes of joints while all stand at 0.

    Attributes:
        along, origin: (6, 3) unit directions and places of the axes, mm. turn, place: (3, 3), (3,) the flange's pose.
    """

    along: Points
    origin: Points
    turn: Points
    place: Points


class ArmJoint(BaseModel):
    """One joint of an arm: its name, its ends, and how fast it is."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=20, title="Name")
    low_deg: float = Field(default=-180.0, ge=-3600, le=3600, title="Lowest", json_schema_extra={"unit": "deg"})
    high_deg: float = Field(default=180.0, ge=-3600, le=3600, title="Highest", json_schema_extra={"unit": "deg"})
    speed_deg_s: float = Field(default=120.0, gt=0, le=10_000, title="Speed", json_schema_extra={"unit": "deg/s"})
    acceleration_deg_s2: float = Field(
        default=400.0, gt=0, le=100_000, title="Acceleration", json_schema_extra={"unit": "deg/s²"}
    )

    @model_validator(mode="after")
    def _has_a_way(self) -> ArmJoint:
        if not self.low_deg < self.high_deg:
            raise ValueError("the lowest value must be below the highest")
        return self


class Link(BaseModel):
    """A row of a link table (J. Denavit, R. S. Hartenberg 1955): turn about z and shift along it, then along x and
    about x."""

    model_config = ConfigDict(extra="forbid")
    d_mm: float = Field(default=0.0, ge=-10_000, le=10_000, title="d", json_schema_extra={"unit": "mm"})
    a_mm: float = Field(default=0.0, ge=-10_000, le=10_000, title="a", json_schema_extra={"unit": "mm"})
    alpha_deg: float = Field(default=0.0, ge=-360, le=360, title="α", json_schema_extra={"unit": "deg"})
    zero_deg: float = Field(
        default=0.0, ge=-360, le=360, title="At 0", description="Its turn while the joint is at 0",
        json_schema_extra={"unit": "deg"},
    )  # fmt: skip


class LinkTable(BaseModel):
    """The shape of an arm by its link table."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["link table"] = "link table"
    rows: list[Link] = Field(min_length=JOINTS, max_length=JOINTS, title="Rows")

    def screws(self) -> Screws:
        turn, place = np.eye(3), np.zeros(3)
        along, origin = np.empty((JOINTS, 3)), np.empty((JOINTS, 3))
        for k, link in enumerate(self.rows):
            along[k], origin[k] = turn[:, 2], place
            t, a = np.deg2rad(link.zero_deg), np.deg2rad(link.alpha_deg)
            about_z = np.array([[np.cos(t), -np.sin(t), 0.0], [np.sin(t), np.cos(t), 0.0], [0.0, 0.0, 1.0]])
            about_x = np.array([[1.0, 0.0, 0.0], [0.0, np.cos(a), -np.sin(a)], [0.0, np.sin(a), np.cos(a)]])
            place = place + turn @ (about_z @ np.array([link.a_mm, 0.0, 0.0]) + np.array([0.0, 0.0, link.d_mm]))
            turn = turn @ about_z @ about_x
        return Screws(along, origin, turn, place)


class Axis(BaseModel):
    """The axis of a joint in the base's frame while all joints are at 0."""

    model_config = ConfigDict(extra="forbid")
    along: Vector3 = Field(title="Direction")
    origin_mm: Vector3 = Field(title="A place of it", json_schema_extra={"unit": "mm"})


class Axes(BaseModel):
    """The shape of an arm by the axes of its joints, and the flange, while all stand at 0."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["axes"] = "axes"
    rows: list[Axis] = Field(min_length=JOINTS, max_length=JOINTS, title="Axes")
    flange_mm: Vector3 = Field(title="Flange", json_schema_extra={"unit": "mm"})
    flange_deg: Vector3 = Field(
        default=(0.0, 0.0, 0.0), title="Turns of the flange", description="About x, then y, then z of the base",
        json_schema_extra={"unit": "deg"},
    )  # fmt: skip

    @model_validator(mode="after")
    def _have_a_direction(self) -> Axes:
        if any(float(np.linalg.norm(axis.along)) < 1e-9 for axis in self.rows):
            raise ValueError("an axis has no direction")
        return self

    def screws(self) -> Screws:
        along = np.array([axis.along for axis in self.rows], dtype=np.float64)
        turn = Rotation.from_euler("xyz", self.flange_deg, degrees=True).as_matrix()
        origin = np.array([axis.origin_mm for axis in self.rows], dtype=np.float64)
        return Screws(along / np.linalg.norm(along, axis=1, keepdims=True), origin, turn, np.array(self.flange_mm))


class Arm(BaseModel):
    """An arm of six turning joints."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=80, title="Name")
    joints: list[ArmJoint] = Field(min_length=JOINTS, max_length=JOINTS, title="Joints")
    shape: Annotated[LinkTable | Axes, Field(discriminator="kind")] = Field(title="Shape")

    @model_validator(mode="after")
    def _names_differ(self) -> Arm:
        names = [joint.name for joint in self.joints]
        if len(set(names)) < len(names):
            raise ValueError("two joints have the same name; give each its own")
        return self

    @property
    def low(self) -> Points:
        return np.array([joint.low_deg for joint in self.joints])

    @property
    def high(self) -> Points:
        return np.array([joint.high_deg for joint in self.joints])

    def screws(self) -> Screws:
        """The axes of its joints."""
        return self.shape.screws()

    def forward(self, values: Points) -> tuple[Points, Points]:
        """Where the flange stands.

        Args:
            values: (n, 6) degrees.

        Returns:
            Rotations (n, 3, 3) and places (n, 3) in the base's frame.
        """
        return forward(self.screws(), values)


def forward(screws: Screws, values: Points, last: int = JOINTS) -> tuple[Points, Points]:
    """The pose of the flange, or with fewer joints of what the last of them carries, for values (n, 6) in degrees."""
    values = np.atleast_2d(np.asarray(values, dtype=np.float64))
    n = len(values)
    turn, place = np.broadcast_to(screws.turn, (n, 3, 3)), np.broadcast_to(screws.place, (n, 3))
    for k in range(last - 1, -1, -1):
        own = rotations(screws.along[k], np.deg2rad(values[:, k]))
        turn = own @ turn
        place = np.einsum("nij,nj->ni", own, place - screws.origin[k]) + screws.origin[k]
    return np.asarray(turn), np.asarray(place)


def rotations(along: Points, angle: Points) -> Points:
    """Matrices (n, 3, 3) of turns about a unit vector (3,) or (n, 3) by angles (n,) in radians."""
    return Rotation.from_rotvec(angle[:, None] * np.broadcast_to(along, (len(angle), 3))).as_matrix()
