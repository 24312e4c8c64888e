"""Rigid transforms with names: work frames and tool frames."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fenrik.core.errors import fail

Points = NDArray[np.float64]

AXES: dict[str, tuple[float, float, float]] = {
    "+x": (1, 0, 0),
    "-x": (-1, 0, 0),
    "+y": (0, 1, 0),
    "-y": (0, -1, 0),
    "+z": (0, 0, 1),
    "-z": (0, 0, -1),
}


@dataclass(frozen=True)
class Frame:
    """A named right-handed frame, placed in part coordinates.

    Attributes:
        origin: where the frame's zero stands, (3,) in mm, in part coordinates.
        rotation: (3, 3), columns are the frame's x, y and z axes in part coordinates.
    """

    name: str = "part"
    origin: Points = field(default_factory=lambda: np.zeros(3))
    rotation: Points = field(default_factory=lambda: np.eye(3))

    def to_local(self, points: Points) -> Points:
        """Part coordinates (n, 3) into this frame."""
        return (np.asarray(points, dtype=np.float64) - self.origin) @ self.rotation

    def to_part(self, points: Points) -> Points:
        """Points (n, 3) of this frame into part coordinates."""
        return np.asarray(points, dtype=np.float64) @ self.rotation.T + self.origin

    def direction_to_local(self, vectors: Points) -> Points:
        return np.asarray(vectors, dtype=np.float64) @ self.rotation

    def moved_to(self, origin: Points) -> Frame:
        """The same directions with another zero (in part coordinates)."""
        return Frame(self.name, np.asarray(origin, dtype=np.float64), self.rotation)


def frame_with_up(up: Points, spin_deg: float = 0.0, name: str = "work") -> Frame:
    """A frame whose z axis is `up`, its x axis as near to the part's x as can be, then turned about z.

    Raises:
        FenrikError: when `up` has no length.
    """
    z = np.asarray(up, dtype=np.float64)
    length = float(np.linalg.norm(z))
    if not np.isfinite(length) or length < 1e-9:
        raise fail("orientation", "the upward direction has no length.", "Pick an axis or a flat face.", list(up))
    z = z / length
    lead = np.array([1.0, 0.0, 0.0]) if abs(z[0]) < 0.9 else np.array([0.0, 1.0, 0.0])
    x = lead - z * float(lead @ z)
    x /= np.linalg.norm(x)
    rotation = np.column_stack([x, np.cross(z, x), z])
    spin = Rotation.from_rotvec(np.deg2rad(spin_deg) * z).as_matrix()
    rotation = spin @ rotation
    rotation[np.abs(rotation) < 1e-15] = 0.0
    return Frame(name, np.zeros(3), rotation)


def plane_axes(direction: Points) -> tuple[Points, Points]:
    """Two unit vectors that span the plane across a direction, right-handed with it."""
    lead = np.eye(3)[int(np.abs(direction).argmin())]
    x = lead - direction * float(lead @ direction)
    x /= np.linalg.norm(x)
    return x, np.cross(direction, x)


def flatten(points: Points, direction: Points) -> Points:
    """Points (n, 3) seen along a direction, (n, 2)."""
    x, y = plane_axes(direction)
    return np.column_stack([points @ x, points @ y])
