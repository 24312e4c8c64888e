"""A path fitted to the joints that have to make it: turned round where they must be, and no further off than told.

Between two rows a control moves its joints evenly (or holds the tip on its line and moves the rotary ones evenly),
while the path means the tip to go evenly and the axis to turn in the plane of both. Rows are put in between until both
agree within a tolerance. Where joints have come to an end, or cannot follow, the tool is lifted out along its axis
beyond all that is clamped, the joints turn, and it goes in again where it left. No motion is faster than its slowest
joint: near a pole, where a rotary joint must turn far for little, the tool is slowed.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.dividing import in_pieces
from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.machines.chain import Chain, Vector3
from fenrik.core.machines.course import Course
from fenrik.core.toolpath import Kind, Poses, Toolpath
from fenrik.core.toolpath.safe import SafeSphere

Held = Literal["joints", "tip", "pose"]
"""What a control keeps even between rows: the joints alone, the tip on its line, or the tool's whole pose."""
ROUNDS, MOST_PIECES = 12, 32
LOOKED_AT = (0.25, 0.5, 0.75)
RAPID_TIMES = 10.0
"""A rapid may stray so many times farther."""
TURN_STEP_DEG = 5.0
MOST_ROWS = 5_000_000
LIFTS = (1.0, 0.7, 0.5, 0.3, 0.2, 0.1, 0.05, 0.0)
"""Shares of the way out that are tried where all of it is not reached."""
SAME_PLACE_MM = 1e-6


@dataclass(frozen=True)
class Clamped:
    """How work stands on a machine.

    Attributes:
        at: the work zero over the middle of the table's top, all joints at 0. around: outside it the work may turn, in
            the work frame.
    """

    at: Vector3 = (0.0, 0.0, 0.0)
    around: SafeSphere = field(default_factory=lambda: SafeSphere(np.zeros(3), 0.0))


@dataclass(frozen=True)
class Fitted:
    """A path that a machine can make.

    Attributes:
        path: of straight rows. joints: (n, joints) at the end of each, NaN where it is out of reach.
        source: (n,) the row of the given path that each belongs to.
        turned: rows of the given path before which the tool is lifted out, for the joints to turn.
        off_mm: how far a place of the cutter strays between rows at most.
    """

    path: Toolpath
    joints: Points
    source: NDArray[np.int64]
    turned: list[int]
    off_mm: float


def fitted(
    chain: Chain, path: Toolpath, way: Course, around: SafeSphere, tolerance_mm: float, lever_mm: float,
    holds: Held = "joints", rapid_mm: float | None = None,
) -> Fitted:  # fmt: skip
    """Fit a path to a machine.

    Args:
        path: of straight motions, in the work frame. way: its joints. around: what is clamped, in the work frame.
        tolerance_mm: how far the tip, or a place of the tool `lever_mm` from it, may stray in a cut.
        holds: what the control itself keeps even. rapid_mm: how far a rapid may stray; ten times as far where it is
            not given.

    Raises:
        FenrikError: where a path would need more rows than a control could ever be given.
    """
    rows = _Rows(path, way.joints, np.arange(len(path)))
    jumps = np.flatnonzero(way.jump)
    for k in jumps[::-1].tolist():
        rows = _turned_round(chain, rows, k, around)
    rapid = RAPID_TIMES * tolerance_mm if rapid_mm is None else rapid_mm
    made, off = _between(chain, rows, (tolerance_mm, rapid), lever_mm, holds)
    slowed = replace(made.path, feed=held_back(chain, made.path, made.joints))
    return Fitted(slowed, made.joints, made.source, jumps.tolist(), off)


@dataclass(frozen=True)
class _Rows:
    path: Toolpath
    joints: Points
    source: NDArray[np.int64]

    def put_in(self, at: int, poses: list[tuple[Points, Points, Points, Kind, float]]) -> _Rows:
        """The same with rows before one: their points, axes, joints, kinds and feeds."""
        order = np.concatenate([np.arange(at), np.full(len(poses), at), np.arange(at, len(self.path))])
        path, joints = self.path.rows(order), self.joints[order]
        new = slice(at, at + len(poses))
        for k, (point, axis, values, kind, feed) in enumerate(poses):
            path.point[at + k], path.axis[at + k], joints[at + k] = point, axis, values
            path.kind[at + k], path.feed[at + k] = kind, feed
        path.pass_id[new], path.dwell_s[new], path.cycle[new], path.hole[new] = -1, 0.0, 0, -1
        return _Rows(path, joints, self.source[order])


def _turned_round(chain: Chain, rows: _Rows, k: int, around: SafeSphere) -> _Rows:
    """Before row k: out along the axis, the joints turned over to where they can follow it, and in again."""
    path = rows.path
    before = k - 1
    while before >= 0 and np.isnan(rows.joints[before]).any():
        before -= 1
    if before < 0:
        return rows
    point, axis = path.point[before], path.axis[before]
    around = _swept(chain, around, rows.joints[k] - rows.joints[before])
    cutting = path.feed[k] > 0
    # The pose that it left, by the joints that go on from there; on a rapid at once the pose that it goes to.
    again_point, again_axis = (point, axis) if cutting else (path.point[k], path.axis[k])
    lifted, up = lifted_out(chain, around, point, axis, rows.joints[before])
    again_lifted, down = lifted_out(chain, around, again_point, again_axis, rows.joints[k])
    over = chain.turned_over(up, down)
    pieces = max(int(np.ceil(np.abs(over - up).max() / TURN_STEP_DEG)), 1)
    turning = up + (over - up) * np.linspace(0.0, 1.0, pieces + 1)[1:, None]
    seen = chain.forward(turning)
    poses = [(lifted, axis, up, Kind.RETRACT, 0.0)]
    poses += [(seen.point[i], seen.axis[i], turning[i], Kind.RAPID, 0.0) for i in range(len(turning)) if pieces > 0]
    poses.append((again_lifted, again_axis, down, Kind.RAPID, 0.0))
    if cutting:
        back = chain.near(point[None], axis[None], rows.joints[k][None])[0]
        entry = float(path.feed[k])
        poses.append((point, axis, back, Kind.APPROACH, entry))
    return rows.put_in(k, poses)


def lifted_out(chain: Chain, around: SafeSphere, point: Points, axis: Points, joints: Points) -> tuple[Points, Points]:
    """Out along the axis beyond what is clamped, or as far as the machine reaches: the place and the joints there."""
    out = around.leave(point, axis)
    for share in LIFTS:
        place = point + share * (out - point)
        values = chain.near(place[None], axis[None], joints[None])[0]
        if not np.isnan(values).any() and chain.keeps_ends(values):
            break
    return place, values


def _swept(chain: Chain, around: SafeSphere, moved: Points) -> SafeSphere:
    """A ball that what is clamped does not leave, nor the tool's tip come into, while the rotary joints turn so far."""
    centre, radius = chain.pivot(), around.radius_mm
    if centre is not None:
        # About axes that miss one another the work also wanders by the gap between them.
        radius += float(np.linalg.norm(around.centre - centre[0])) + 2.0 * centre[1]
    swing = np.abs(np.deg2rad(moved)) * chain.levers_mm()
    return SafeSphere(around.centre if centre is None else centre[0], radius + float(swing.sum()))


def _between(
    chain: Chain, rows: _Rows, tolerances_mm: tuple[float, float], lever_mm: float, holds: Held
) -> tuple[_Rows, float]:
    """Rows put in between until joints that move evenly keep to the path; gives how far they stray at most."""
    # What the joints do away from the work of themselves is not brought back to straight lines.
    loose = np.zeros(len(rows.path), bool)
    loose[1:] = (rows.path.feed[1:] <= 0) & (rows.source[1:] == rows.source[:-1])
    open_steps = np.arange(1, len(rows.path))
    worst = np.zeros(len(rows.path))
    for _ in range(ROUNDS):
        off = _strayed(chain, rows, open_steps, lever_mm, holds)
        allowed = np.where(rows.path.feed[open_steps] > 0, *tolerances_mm)
        off = np.where(loose[open_steps], 0.0, off)
        worst[open_steps] = np.where(rows.path.feed[open_steps] > 0, off, 0.0)
        far = off > allowed
        if not far.any():
            break
        count = np.ones(len(rows.path), np.int64)
        pieces = np.ceil(np.sqrt(off[far] / (0.8 * allowed[far])))
        count[open_steps[far]] = np.clip(pieces, 2, MOST_PIECES).astype(np.int64)
        if count.sum() > MOST_ROWS:
            raise fail("path", "turns the machine's joints so much that it needs millions of rows.", "Take a wider "
                       "tolerance, or keep the tool from standing along a rotary joint.")  # fmt: skip
        rows = _divided(chain, rows, count)
        loose, worst = np.repeat(loose, count), np.repeat(worst, count)
        ends = np.cumsum(count)
        touched = count > 1
        open_steps = np.concatenate([np.arange(e - c, e) for e, c in zip(ends[touched], count[touched], strict=True)])
    return rows, float(worst.max(initial=0.0))


def filled(
    chain: Chain, path: Toolpath, joints: Points, tolerances_mm: tuple[float, float], lever_mm: float
) -> tuple[Toolpath, Points]:
    """A path with rows put in until joints that move evenly keep to it, and the joints at each; its cuts within the
    first tolerance, its rapids within the second."""
    rows = _Rows(path, joints, np.arange(len(path)))
    made, _ = _between(chain, rows, tolerances_mm, lever_mm, "joints")
    return made.path, made.joints


def _steps(rows: _Rows, step: NDArray[np.int64]) -> Poses:
    path = rows.path
    return Poses(path.point[step - 1], path.point[step], path.axis[step - 1], path.axis[step], step)


def _strayed(chain: Chain, rows: _Rows, step: NDArray[np.int64], lever_mm: float, holds: Held) -> Points:
    """How far a place of the tool is from where the path means it in steps, while the joints move evenly."""
    poses, every = _steps(rows, step), np.arange(len(step))
    first, last = rows.joints[step - 1], rows.joints[step]
    off = np.zeros(len(step))
    for share in LOOKED_AT:
        is_at = chain.forward(np.nan_to_num(first + share * (last - first)))
        axis = poses.axis_at(every, np.full(len(step), share))
        meant = poses.start + share * (poses.end - poses.start)
        tip = 0.0 if holds == "tip" else np.linalg.norm(is_at.point - meant, axis=1)
        off = np.maximum(off, tip + lever_mm * np.linalg.norm(is_at.axis - axis, axis=1))
    return np.where(np.isnan(first + last).any(axis=1), 0.0, off)


def _divided(chain: Chain, rows: _Rows, count: NDArray[np.int64]) -> _Rows:
    """Steps in so many even pieces each, the joints solved anew at every place."""
    order, piece = in_pieces(count)
    share = (piece + 1) / count[order]
    path, joints = rows.path.rows(order), rows.joints[order]
    inner = np.flatnonzero(share < 1.0)
    step = order[inner]
    poses, t = _steps(rows, step), share[inner]
    path.point[inner] = poses.start + t[:, None] * (poses.end - poses.start)
    path.axis[inner] = poses.axis_at(np.arange(len(step)), t)
    path.dwell_s[inner] = 0.0
    first, last = rows.joints[step - 1], rows.joints[step]
    joints[inner] = chain.near(path.point[inner], path.axis[inner], first + t[:, None] * (last - first))
    return _Rows(path, joints, rows.source[order])


def held_back(chain: Chain, path: Toolpath, joints: Points) -> Points:
    """Feeds, no faster than the joints can follow; of rows that turn without moving the tip in degrees per minute."""
    length = path.lengths()
    turned = turned_deg(chain, joints)
    least = chain.least_minutes(joints, wanted_minutes(path.feed, length, turned))
    slow = (path.feed > 0) & (least > 0) & (length > SAME_PLACE_MM)
    feed = np.where(slow, np.minimum(path.feed, length / np.where(slow, least, 1.0)), path.feed)
    idle = (path.feed > 0) & (turned > 0) & (length <= SAME_PLACE_MM)
    return np.where(idle, turned / np.where(idle, np.maximum(least, 1e-12), 1.0), feed)


def wanted_minutes(feed: Points, length_mm: Points, turned: Points) -> Points:
    """What steps are meant to take by their feed, (n,); 0 of rapids."""
    way = np.where(length_mm > SAME_PLACE_MM, length_mm, turned)
    return np.where(feed > 0, way / np.where(feed > 0, feed, 1.0), 0.0)


def turned_deg(chain: Chain, joints: Points) -> Points:
    """How far the rotary joint that turns most does so in each step, (n,); 0 where it is not known."""
    moved = np.abs(np.diff(joints[:, chain.rotary], axis=0, prepend=joints[:1, chain.rotary]))
    return np.nan_to_num(moved.max(axis=1, initial=0.0))


def strayed(chain: Chain, path: Toolpath, joints: Points, lever_mm: float, holds: Held) -> Points:
    """How far a place of the tool strays from each straight motion of a path while the joints move evenly, (n,) mm; 0
    for the first and where joints are not known. A control that holds the whole pose does not stray."""
    if holds == "pose":
        return np.zeros(len(path))
    rows = _Rows(path, joints, np.arange(len(path)))
    return np.append(0.0, _strayed(chain, rows, np.arange(1, len(path)), lever_mm, holds))
