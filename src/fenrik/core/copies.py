"""Copies of an operation: its path again along a line, round an axis, or mirrored."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.stock import Stock, cut
from fenrik.core.toolpath import ORIENTED, Kind, Motion, Toolpath
from fenrik.core.tools import Assembly, Profile

MM: dict[str, Any] = {"unit": "mm"}
FLATTEN_MM = 0.002
FAST_MM3 = 0.05
COPIES_VERSION = 2


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
        step = np.array([copies.step_x_mm, copies.step_y_mm])
        return [_moved(path, np.eye(2), k * step) for k in range(copies.count)]
    if isinstance(copies, RoundCopies):
        full = abs(abs(copies.angle_deg) - 360) < 1e-9
        share = np.deg2rad(copies.angle_deg) / (copies.count if full else copies.count - 1)
        axis = zero[:2] + np.array([copies.x_mm, copies.y_mm])
        made = []
        for k in range(copies.count):
            c, s = np.cos(k * share), np.sin(k * share)
            turn = np.array([[c, -s], [s, c]])
            made.append(_moved(path, turn, axis - turn @ axis))
        return made
    k = "xy".index(copies.across)
    turn = np.eye(2)
    turn[k, k] = -1.0
    shift = np.zeros(2)
    shift[k] = 2 * (zero[k] + copies.at_mm)
    mirror = _moved(other, turn, shift)
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


def _moved(path: Toolpath, turn: Points, shift: Points) -> Toolpath:
    """A path turned (or mirrored, then its arcs run the other way) about z and displaced."""
    point, centre = path.point.copy(), path.centre.copy()
    point[:, :2] = point[:, :2] @ turn.T + shift
    arcs = path.motion > 0
    centre[arcs, :2] = centre[arcs, :2] @ turn.T + shift
    motion, side = path.motion, path.side
    if np.linalg.det(turn) < 0:
        side = np.where(side > 0, 83 - side, 0).astype(np.int8)  # G41 ↔ G42
        motion = np.where(arcs, Motion.ARC_CW + Motion.ARC_CCW - motion, motion).astype(np.int8)
    return replace(path, point=point, centre=centre, motion=motion, side=side)


def joined_copies(paths: list[Toolpath]) -> Toolpath:
    """Paths one after another, the holes of each numbered on; an empty path of none."""
    if not paths:
        return Toolpath.empty()
    numbered, first = [], 0
    for path in paths:
        numbered.append(replace(path, hole=np.where(path.hole >= 0, path.hole + first, -1).astype(np.int32)))
        first += int(path.hole.max(initial=-1)) + 1
    return Toolpath.joined(numbered)
