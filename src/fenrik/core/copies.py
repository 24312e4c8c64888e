"""Copies of an operation: its path again along a line, round an axis, or mirrored."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from scipy.spatial.transform import Rotation

from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.stock import Stock, cut
from fenrik.core.toolpath import ORIENTED, Kind, Toolpath
from fenrik.core.tools import Assembly, Profile

MM: dict[str, Any] = {"unit": "mm"}
FLATTEN_MM = 0.002
FAST_MM3 = 0.05
COPIES_VERSION = 3


class _Copies(BaseModel):
    model_config = ConfigDict(extra="forbid")


class LineCopies(_Copies):
    """Again and again along a line."""

    kind: Literal["in a line"] = "in a line"
    count: int = Field(default=2, ge=2, le=500, title="How many", description="The first counted")
    step_x_mm: float = Field(default=20, ge=-5000, le=5000, title="Step X", json_schema_extra=MM)
    step_y_mm: float = Field(default=0, ge=-5000, le=5000, title="Step Y", json_schema_extra=MM)


class RoundCopies(_Copies):
    """Round an upright axis, evenly spread."""

    kind: Literal["round an axis"] = "round an axis"
    count: int = Field(default=4, ge=2, le=500, title="How many", description="The first counted")
    angle_deg: float = Field(
        default=360, ge=-360, le=360, title="Over an angle", description="360: all the way round",
        json_schema_extra={"unit": "deg"},
    )  # fmt: skip
    x_mm: float = Field(
        default=0, ge=-5000, le=5000, title="Axis X", description="In the work frame", json_schema_extra=MM
    )
    y_mm: float = Field(default=0, ge=-5000, le=5000, title="Axis Y", json_schema_extra=MM)


class MirrorCopies(_Copies):
    """Once more, left and right or front and back exchanged."""

    kind: Literal["mirrored"] = "mirrored"
    across: Literal["x", "y"] = Field(default="x", title="Exchanges", description="x: left and right")
    at_mm: float = Field(
        default=0, ge=-5000, le=5000, title="Mirror at", description="In the work frame", json_schema_extra=MM
    )
    keep_climb: bool = Field(default=True, title="Climb stays climb", description="Off: the path is mirrored as it is")
    original: bool = Field(default=True, title="With the original")


Copies = Annotated[LineCopies | RoundCopies | MirrorCopies, Field(discriminator="kind")]


def copied(
    path: Toolpath, other: Toolpath, copies: LineCopies | RoundCopies | MirrorCopies, zero: Points
) -> list[Toolpath]:
    """A path and its copies; each begins and ends at the clearance height, where they are joined.

    Args:
        other: the path that mirrored copies are made of (with the opposite way of milling where climb stays climb).
        zero: (3,) the work zero in the frame of the path.

    Raises:
        FenrikError: for turned copies of a path on which the spindle is stopped in its place.
    """
    if len(path) == 0:
        return []
    if not isinstance(copies, LineCopies) and np.any(path.spindle == ORIENTED):
        raise fail(
            "copies",
            "would turn the side to which the tool moves while the spindle stands in its place.",
            "Copy in a line, or pick the other holes too.",
            copies.kind,
        )
    if isinstance(copies, LineCopies):
        step = np.array([copies.step_x_mm, copies.step_y_mm, 0.0])
        return [path.moved(k * step) for k in range(copies.count)]
    if isinstance(copies, RoundCopies):
        full = abs(abs(copies.angle_deg) - 360) < 1e-9
        share = copies.angle_deg / (copies.count if full else copies.count - 1)
        axis = zero + [copies.x_mm, copies.y_mm, 0.0]
        turns = [Rotation.from_euler("z", k * share, degrees=True).as_matrix() for k in range(copies.count)]
        return [path.mapped(turn, axis - turn @ axis) for turn in turns]
    k = "xy".index(copies.across)
    turn, shift = np.eye(3), np.zeros(3)
    turn[k, k], shift[k] = -1.0, 2 * (zero[k] + copies.at_mm)
    mirror = other.mapped(turn, shift)
    return [path, mirror] if copies.original else [mirror]


def where_stock_lets(
    paths: list[Toolpath], original: bool, stock: Stock, cutter: Profile
) -> tuple[list[Toolpath], list[Unreached]]:
    """The copies that their stock allows, and the others with the reason.

    A copy is left out where there is no stock at its place, and where its rapid motions would run into stock that
    stands higher than at the original. Copies are cut one after another.

    Args:
        original: whether the first path is the operation's own, which stays as it was computed.
        stock: as it is before the operation; it stays so.
    """
    kept: list[Toolpath] = []
    told: list[Unreached] = []
    for k, path in enumerate(paths):
        poses = path.poses(FLATTEN_MM)
        after, record = cut(stock, poses, Assembly(cutter))
        fast = float(record.removed_mm3[path.kind[poses.source] == Kind.RAPID].sum())
        fault = None if k == 0 and original else _fault(float(record.removed_mm3.sum()), fast)
        if fault is None:
            kept.append(path)
            stock = after
            continue
        place = path.point[path.kind == Kind.CUT][:1] if np.any(path.kind == Kind.CUT) else path.point[:1]
        x, y, z = place[0].tolist()
        told.append(Unreached(reason=f"copy {k + 1} of {len(paths)}: {fault[0]}", place=(x, y, z), advice=fault[1]))
    return kept, told


def _fault(removed_mm3: float, fast_mm3: float) -> tuple[str, str] | None:
    """What speaks against a copy, and what would work."""
    if fast_mm3 > FAST_MM3:
        return (
            f"its rapid motions would run into {fast_mm3:.1f} mm³ of stock that stands higher there",
            "Clear the stock there first, or give that place a row of its own.",
        )
    if removed_mm3 <= 0:
        return "there is no stock at its place", "Check the steps; what is cut already needs no copy."
    return None


def joined_copies(paths: list[Toolpath]) -> Toolpath:
    """Paths one after another, the holes of each numbered on; an empty path of none."""
    if not paths:
        return Toolpath.empty()
    numbered, first = [], 0
    for path in paths:
        numbered.append(replace(path, hole=np.where(path.hole >= 0, path.hole + first, -1).astype(np.int32)))
        first += int(path.hole.max(initial=-1)) + 1
    return Toolpath.joined(numbered)
