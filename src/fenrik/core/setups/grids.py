"""The same part many times: places on a grid, turned or mirrored, each an instance with a number."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh

MM: dict[str, Any] = {"unit": "mm"}
MAX_INSTANCES = 400


class Grid(BaseModel):
    """Copies of the part in columns along x and rows along y of the setup's frame."""

    model_config = ConfigDict(extra="forbid")
    columns: int = Field(default=2, ge=1, le=100, title="Columns")
    rows: int = Field(default=2, ge=1, le=100, title="Rows")
    pitch_x_mm: float = Field(default=50, gt=0, le=10_000, title="Pitch X", json_schema_extra=MM)
    pitch_y_mm: float = Field(default=50, gt=0, le=10_000, title="Pitch Y", json_schema_extra=MM)
    turn_deg: float = Field(
        default=0,
        ge=-360,
        le=360,
        title="Turn",
        description="About z, of those chosen",
        json_schema_extra={"unit": "deg"},
    )
    mirror: bool = Field(default=False, title="Mirrored", description="Left and right exchanged, of those chosen")
    which: Literal["all", "every other column", "every other row", "chequered"] = Field(
        default="every other column", title="Turned or mirrored"
    )
    blanks: Literal["one stock", "one each"] = Field(default="one stock", title="Stock")


@dataclass(frozen=True)
class Instance:
    """One copy: p ↦ turn · (p − middle) + middle + shift, in the setup's frame.

    Attributes:
        number: from 1, along the rows.
        turn: (3, 3), with determinant −1 where it is mirrored.
    """

    number: int
    column: int
    row: int
    turn: Points
    middle: Points
    shift: Points

    @property
    def is_mirrored(self) -> bool:
        return bool(np.linalg.det(self.turn) < 0)

    def places(self, points: Points) -> Points:
        """Points (n, 3) of the first part moved to this copy."""
        return (points - self.middle) @ self.turn.T + self.middle + self.shift

    def box(self, part: Points) -> Points:
        """The box (2, 3) of this copy of a part's box."""
        placed = self.places(np.array(np.meshgrid(*part.T)).reshape(3, -1).T)
        return np.array([placed.min(axis=0), placed.max(axis=0)])

    @property
    def motion(self) -> tuple[Points, Points]:
        """What takes the first part there: a turn (3, 3), which may mirror, and the shift after it."""
        return self.turn, self.middle + self.shift - self.turn @ self.middle

    def mesh(self, mesh: Mesh) -> Mesh:
        """A mesh moved to this copy; its triangles keep facing outwards."""
        turned = mesh.flipped() if self.is_mirrored else mesh
        return replace(turned, vertices=np.ascontiguousarray(self.places(mesh.vertices)))


def grid_instances(grid: Grid | None, middle: Points) -> list[Instance]:
    """All copies; the one part itself where there is no grid.

    Args:
        middle: (3,) middle of the part, about which copies are turned and mirrored.
    """
    middle = np.asarray(middle, float)
    if grid is None:
        return [Instance(1, 0, 0, np.eye(3), middle, np.zeros(3))]
    angle = np.deg2rad(grid.turn_deg)
    turned = np.array([[np.cos(angle), -np.sin(angle), 0], [np.sin(angle), np.cos(angle), 0], [0, 0, 1]])
    turned[np.abs(turned) < 1e-15] = 0.0
    if grid.mirror:
        turned = turned @ np.diag([-1.0, 1.0, 1.0])
    found: list[Instance] = []
    for row in range(grid.rows):
        for column in range(grid.columns):
            chosen = {
                "all": True,
                "every other column": column % 2 == 1,
                "every other row": row % 2 == 1,
                "chequered": (column + row) % 2 == 1,
            }[grid.which]
            shift = np.array([column * grid.pitch_x_mm, row * grid.pitch_y_mm, 0.0])
            found.append(Instance(len(found) + 1, column, row, turned if chosen else np.eye(3), middle, shift))
    return found


def bounds_of_instances(instances: list[Instance], part: Points) -> list[Points]:
    """The box (2, 3) of each copy of a part's box."""
    return [instance.box(part) for instance in instances]


def join_meshes(meshes: list[Mesh]) -> Mesh:
    """Several meshes as one, face numbers kept."""
    if len(meshes) == 1:
        return meshes[0]
    base = np.cumsum([0, *(len(m.vertices) for m in meshes)])
    return Mesh(
        np.concatenate([m.vertices for m in meshes]),
        np.concatenate([m.triangles + int(b) for m, b in zip(meshes, base, strict=False)]).astype(np.int32),
        np.concatenate([m.face_ids for m in meshes]),
        max(m.deflection_mm for m in meshes),
        np.concatenate([m.parameters for m in meshes if m.parameters is not None])
        if all(m.parameters is not None for m in meshes)
        else None,
    )
