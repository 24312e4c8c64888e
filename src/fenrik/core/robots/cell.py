"""A cell as data: an arm with its spindle, what turns or carries the work, a track, and the bodies round about.

Frames have names. `cell` stands on the floor, z upwards; `base` is that of the arm, which a track may carry; `table` is
the middle of the top that the work stands on, which may turn; `face` is the spindle's face, z along the spindle from
the tool on, fixed to the arm's flange. Bodies are given in the frame that they belong to, all joints at 0.
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, PrivateAttr, model_validator
from scipy.spatial.transform import Rotation

from fenrik.core.frames import Frame, Points
from fenrik.core.machines import Joint, PlacedBody
from fenrik.core.machines.bodies import STILL, Box, Shape
from fenrik.core.machines.chain import Vector3
from fenrik.core.robots.arm import JOINTS, Arm

SECONDS = 60.0


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Place(_Doc):
    """Where a frame stands in another."""

    at_mm: Vector3 = Field(default=(0.0, 0.0, 0.0), title="Place", json_schema_extra={"unit": "mm"})
    turns_deg: Vector3 = Field(
        default=(0.0, 0.0, 0.0), title="Turns", description="About the fixed x, then y, then z",
        json_schema_extra={"unit": "deg"},
    )  # fmt: skip

    def frame(self, name: str) -> Frame:
        turn = Rotation.from_euler("xyz", self.turns_deg, degrees=True).as_matrix()
        return Frame(name, np.array(self.at_mm, dtype=np.float64), turn)


class Turntable(_Doc):
    """Turns the table about its z."""

    name: str = Field(default="E1", min_length=1, max_length=20, title="Name")
    low_deg: float | None = Field(default=None, ge=-36_000, le=36_000, title="Lowest", description="Empty: no end")
    high_deg: float | None = Field(default=None, ge=-36_000, le=36_000, title="Highest", description="Empty: no end")
    speed_deg_s: float = Field(default=60.0, gt=0, le=10_000, title="Speed", json_schema_extra={"unit": "deg/s"})
    acceleration_deg_s2: float = Field(
        default=120.0, gt=0, le=100_000, title="Acceleration", json_schema_extra={"unit": "deg/s²"}
    )

    @model_validator(mode="after")
    def _has_a_way(self) -> Turntable:
        if (self.low_deg is None) != (self.high_deg is None):
            raise ValueError("has one end; give both or none")
        if self.low_deg is not None and self.high_deg is not None and not self.low_deg < self.high_deg:
            raise ValueError("the lowest value must be below the highest")
        return self


class Track(_Doc):
    """Carries the arm's base along a line of the cell; at 0 the base stands where the cell has it."""

    name: str = Field(default="E1", min_length=1, max_length=20, title="Name")
    along: Vector3 = Field(default=(1.0, 0.0, 0.0), title="Direction")
    low_mm: float = Field(default=0.0, ge=-100_000, le=100_000, title="Lowest", json_schema_extra={"unit": "mm"})
    high_mm: float = Field(default=3000.0, ge=-100_000, le=100_000, title="Highest", json_schema_extra={"unit": "mm"})
    speed_mm_s: float = Field(default=800.0, gt=0, le=100_000, title="Speed", json_schema_extra={"unit": "mm/s"})
    acceleration_mm_s2: float = Field(
        default=1200.0, gt=0, le=1_000_000, title="Acceleration", json_schema_extra={"unit": "mm/s²"}
    )

    @model_validator(mode="after")
    def _has_a_way(self) -> Track:
        if not self.low_mm < self.high_mm:
            raise ValueError("the lowest value must be below the highest")
        if float(np.linalg.norm(self.along)) < 1e-9:
            raise ValueError("has no direction")
        return self


Of = Literal["cell", "base", "table", "face"]


class CellBody(_Doc):
    """A body of a cell."""

    name: str = Field(min_length=1, max_length=40, title="Name")
    of: Of = Field(default="cell", title="Given in")
    moves_with: str = Field(
        default="", max_length=20, title="Moves with", description="A joint of the arm, for bodies given in its base"
    )
    shapes: list[Shape] = Field(min_length=1, max_length=50, title="Shapes")


class KeepOut(_Doc):
    """A box of the cell that nothing of the arm may come into."""

    name: str = Field(min_length=1, max_length=40, title="Name")
    box: Box


class Posture(_Doc):
    """A posture of the arm, kept by name."""

    name: str = Field(min_length=1, max_length=40, title="Name")
    joints_deg: tuple[float, float, float, float, float, float] = Field(title="Joints")


class Cell(_Doc):
    """An arm and all that stands round it."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    arm: Arm
    base: Place = Field(default_factory=Place, title="Base of the arm")
    track: Track | None = Field(default=None, title="Track")
    table: Place = Field(default_factory=Place, title="Table", description="Middle of the top that the work stands on")
    table_mm: tuple[float, float] = Field(default=(1000, 1000), title="Size of the table")
    turntable: Turntable | None = Field(default=None, title="Turntable")
    mount: Place = Field(
        default_factory=Place, title="Spindle's face",
        description="In the flange's frame, z along the spindle from the tool on",
    )  # fmt: skip
    home_deg: tuple[float, float, float, float, float, float] = Field(
        default=(0.0, 0.0, 0.0, 0.0, 90.0, 0.0), title="Home", description="Where the arm waits and changes tools"
    )
    bodies: list[CellBody] = Field(default_factory=list, max_length=100, title="Bodies")
    keep_out: list[KeepOut] = Field(default_factory=list, max_length=50, title="Keep out of")
    postures: list[Posture] = Field(default_factory=list, max_length=50, title="Postures")
    spindle_max_rpm: float = Field(
        default=18_000, gt=0, le=200_000, title="Fastest spindle speed", json_schema_extra={"unit": "rpm"}
    )
    power_kw: float = Field(default=8, gt=0, le=500, title="Spindle power", json_schema_extra={"unit": "kW"})
    torque_nm: float = Field(default=12, gt=0, le=5000, title="Spindle torque", json_schema_extra={"unit": "Nm"})
    longest_tool_mm: float = Field(default=300, gt=0, le=2000, title="Longest tool", json_schema_extra={"unit": "mm"})
    rapid_mm_min: float = Field(default=30_000, gt=0, le=200_000, title="Rapid", json_schema_extra={"unit": "mm/min"})
    max_feed_mm_min: float = Field(
        default=12_000, gt=0, le=200_000, title="Fastest feed", json_schema_extra={"unit": "mm/min"}
    )
    acceleration_mm_s2: float = Field(
        default=2000, gt=0, le=100_000, title="Acceleration", json_schema_extra={"unit": "mm/s²"}
    )
    tool_change_s: float = Field(default=20, ge=0, le=3600, title="Tool change", json_schema_extra={"unit": "s"})
    _machine: Any = PrivateAttr(default=None)
    """Itself as a machine, once that was asked for."""

    @model_validator(mode="after")
    def _hangs_together(self) -> Cell:
        names = [j.name for j in self.joints()]
        if len(set(names)) < len(names):
            raise ValueError("two joints have the same name; give each its own")
        arm = {j.name for j in self.arm.joints}
        for body in self.bodies:
            if body.moves_with and (body.of != "base" or body.moves_with not in arm):
                raise ValueError(f"body {body.name} moves with {body.moves_with}, which is none of the arm's joints")
        if len({p.name for p in self.postures}) < len(self.postures):
            raise ValueError("two postures have the same name; give each its own")
        return self

    def joints(self) -> list[Joint]:
        """All joints, from the base to the tool and then those that carry the work, in the cell's frame."""
        found, base = [], self.base.frame("base")
        if (t := self.track) is not None:
            found.append(
                Joint(name=t.name, direction=t.along, low=t.low_mm, high=t.high_mm, speed=SECONDS * t.speed_mm_s)
            )
        screws = self.arm.screws()
        along, origin = screws.along @ base.rotation.T, base.to_part(screws.origin)
        for joint, a, o in zip(self.arm.joints, along.tolist(), origin.tolist(), strict=True):
            found.append(
                Joint(name=joint.name, kind="rotary", direction=tuple(a), origin=tuple(o), low=joint.low_deg,
                      high=joint.high_deg, speed=SECONDS * joint.speed_deg_s)
            )  # fmt: skip
        if (r := self.turntable) is not None:
            table = self.table.frame("table")
            found.append(
                Joint(name=r.name, kind="rotary", carries="work", direction=tuple(table.rotation[:, 2].tolist()),
                      origin=tuple(table.origin.tolist()), low=r.low_deg, high=r.high_deg,
                      speed=SECONDS * r.speed_deg_s)
            )  # fmt: skip
        return found

    @property
    def arm_columns(self) -> slice:
        """Which of the values of all joints are those of the arm."""
        first = int(self.track is not None)
        return slice(first, first + JOINTS)

    def accelerations(self) -> Points:
        """Of all joints, mm/s² and deg/s²."""
        found = [self.track.acceleration_mm_s2] if self.track is not None else []
        found += [j.acceleration_deg_s2 for j in self.arm.joints]
        return np.array([*found, self.turntable.acceleration_deg_s2] if self.turntable is not None else found)

    def flange(self) -> Frame:
        """The flange while all joints are at 0, in the cell."""
        screws, base = self.arm.screws(), self.base.frame("base")
        return Frame("flange", base.to_part(screws.place), base.rotation @ screws.turn)

    def face(self) -> Frame:
        """The spindle's face while all joints are at 0, in the cell."""
        flange, mount = self.flange(), self.mount.frame("face")
        return Frame("face", flange.to_part(mount.origin), flange.rotation @ mount.rotation)

    def placed_bodies(self) -> list[PlacedBody]:
        """Its bodies and what it must keep out of, while all joints are at 0, in the cell."""
        first = self.arm_columns.start
        number = {j.name: first + k for k, j in enumerate(self.arm.joints)}
        track = 0 if self.track is not None else STILL
        turning = first + JOINTS if self.turntable is not None else STILL
        frames = {"cell": Frame("cell"), "base": self.base.frame("base"), "table": self.table.frame("table"),
                  "face": self.face()}  # fmt: skip
        moves = {"cell": STILL, "base": track, "table": turning, "face": first + JOINTS - 1}
        return [
            *(
                PlacedBody(b.name, number[b.moves_with] if b.moves_with else moves[b.of],
                           [frames[b.of].to_part(s.corners()) for s in b.shapes])
                for b in self.bodies
            ),
            *(PlacedBody(k.name, STILL, [k.box.corners()]) for k in self.keep_out),
        ]  # fmt: skip
