"""A machine as data: speeds, drives, reach, and its joints."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from fenrik.core.frames import Frame, Points
from fenrik.core.machines.bodies import STILL, MachineBody, PlacedBody
from fenrik.core.machines.chain import Chain, Joint, Vector3
from fenrik.core.machines.course import course
from fenrik.core.toolpath import MotionLimits, Toolpath


class Machine(BaseModel):
    """Speeds, drives and reach of a machine (names as in ISO 841); with three linear axes where no joints are named."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=80, title="Name")
    spindle_max_rpm: float = Field(
        default=12_000, gt=0, le=200_000, title="Fastest spindle speed", json_schema_extra={"unit": "rpm"}
    )
    rapid_mm_min: float = Field(default=20_000, gt=0, le=200_000, title="Rapid", json_schema_extra={"unit": "mm/min"})
    max_feed_mm_min: float = Field(
        default=10_000, gt=0, le=200_000, title="Fastest feed", json_schema_extra={"unit": "mm/min"}
    )
    acceleration_mm_s2: float = Field(
        default=3000, gt=0, le=100_000, title="Acceleration", json_schema_extra={"unit": "mm/s²"}
    )
    path_tolerance_mm: float = Field(
        default=0.02,
        gt=0,
        le=1,
        title="Corner tolerance",
        description="How far the control may round a corner",
        json_schema_extra={"unit": "mm"},
    )
    travel_mm: tuple[float, float, float] = Field(
        default=(500, 400, 400), title="Travel", json_schema_extra={"unit": "mm"}
    )
    longest_tool_mm: float = Field(default=250, gt=0, le=2000, title="Longest tool", json_schema_extra={"unit": "mm"})
    power_kw: float = Field(default=11, gt=0, le=500, title="Spindle power", json_schema_extra={"unit": "kW"})
    torque_nm: float = Field(default=60, gt=0, le=5000, title="Spindle torque", json_schema_extra={"unit": "Nm"})
    taper: str = Field(default="ISO 40", max_length=40, title="Taper")
    table_mm: tuple[float, float] = Field(
        default=(700, 450), title="Table", description="Length along X, width along Y", json_schema_extra={"unit": "mm"}
    )
    magazine_places: int = Field(default=24, ge=0, le=500, title="Magazine places")
    joints: list[Joint] = Field(
        default_factory=list, max_length=12, title="Joints", description="Empty: X, Y and Z with their travel"
    )
    bodies: list[MachineBody] = Field(
        default_factory=list, max_length=100, title="Bodies", description="For collisions, and for seeing it move"
    )
    tool_change_s: float = Field(default=8, ge=0, le=3600, title="Tool change", json_schema_extra={"unit": "s"})

    @field_validator("travel_mm", "table_mm")
    @classmethod
    def _has_size(cls, value: tuple[float, ...]) -> tuple[float, ...]:
        if any(not 0 < v <= 100_000 for v in value):
            raise ValueError("every length must be above 0 and at most 100 000 mm")
        return value

    @model_validator(mode="after")
    def _names_differ(self) -> Machine:
        names = [j.name for j in self.joints]
        if len(set(names)) < len(names):
            raise ValueError("two joints have the same name; give each its own")
        strange = [b for b in self.bodies if b.moves_with and b.moves_with not in names]
        if strange:
            raise ValueError(f"body {strange[0].name} moves with {strange[0].moves_with}, which is none of the joints")
        return self

    def all_joints(self) -> list[Joint]:
        """The joints; X, Y and Z of a machine that names none, X and Y travelling evenly about the table's middle."""
        if self.joints:
            return self.joints
        x, y, z = (float(t) for t in self.travel_mm)
        ends = {"X": (-x / 2, x / 2), "Y": (-y / 2, y / 2), "Z": (0.0, z)}
        directions: dict[str, Vector3] = {"X": (1.0, 0.0, 0.0), "Y": (0.0, 1.0, 0.0), "Z": (0.0, 0.0, 1.0)}
        return [
            Joint(name=n, direction=directions[n], low=low, high=high, speed=self.rapid_mm_min)
            for n, (low, high) in ends.items()
        ]

    def chain(self, tool_mm: float = 0.0, at: Vector3 = (0.0, 0.0, 0.0)) -> Chain:
        """The joints as a chain, for a tool of a length and a place of the work's origin over the table's middle."""
        return Chain(self.all_joints(), tool_mm, at)

    def placed_bodies(self) -> list[PlacedBody]:
        """Its bodies while all joints are at 0."""
        number = {j.name: k for k, j in enumerate(self.joints)}
        return [
            PlacedBody(b.name, number[b.moves_with] if b.moves_with else STILL, [s.corners() for s in b.shapes])
            for b in self.bodies
        ]

    @property
    def face(self) -> Frame:
        """The spindle's face while all joints are at 0, z along the spindle from the tool on."""
        return Frame("face")

    @property
    def table(self) -> Frame:
        """The middle of the table's top while all joints are at 0, z upwards."""
        return Frame("table")

    def stands(self, values: Points, at: Vector3, lengths_mm: Points) -> Points:
        """Values of its own, which count from the middle of the table's top to the spindle's face, for those of
        programs (n, joints), which count from the work zero to the tip of a tool so long (n,)."""
        own = values.copy()
        for k, joint in enumerate(self.all_joints()):
            if joint.kind == "linear":
                along = np.array(joint.direction) / np.linalg.norm(joint.direction)
                own[:, k] += float(along @ np.array(at)) + along[2] * lengths_mm
        return own

    @property
    def by_joints(self) -> bool:
        """Whether it is told values of its joints in every row, not only where the tool leans."""
        return False

    @property
    def turns(self) -> bool:
        """Whether it has rotary joints."""
        return any(j.kind == "rotary" for j in self.joints)

    def follow(self, path: Toolpath, tool_mm: float, at: Vector3 = (0.0, 0.0, 0.0)) -> Points:
        """Values of the joints at the end of each motion of a path in the work frame.

        Returns:
            (n, joints) mm and degrees, NaN where the machine does not reach.
        """
        return course(self.chain(tool_mm, at), path.point, path.axis, path.feed <= 0).joints

    def limits(self) -> MotionLimits:
        return MotionLimits(self.rapid_mm_min, self.max_feed_mm_min, self.acceleration_mm_s2, self.path_tolerance_mm)
