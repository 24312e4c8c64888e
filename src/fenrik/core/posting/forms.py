"""Paths in the form that a controller can be given: arcs split or flattened, contours under compensation."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.posting.controller import Controller
from fenrik.core.toolpath import Motion, Toolpath
from fenrik.core.toolpath.compensation import CompensationError, Stretch, written_contour

FLATTEN_MM = 0.005
MAX_ARC_DEG_BY_RADIUS = 120.0


def as_posted(controller: Controller, path: Toolpath) -> Toolpath:
    """The path with arcs in the form that the controller can be given."""
    path = without_tiny_arcs(path, controller.resolution_mm)
    if controller.arcs == "lines":
        if np.any(path.offset_mm):
            raise fail(
                "compensation",
                "is for a controller that writes arcs; this one writes lines only.",
                "Compensate by computer, or as wear.",
            )
        return path.flattened(FLATTEN_MM)[0]
    if controller.arcs == "radius":
        return _split_arcs(path)
    return path


def as_written(path: Toolpath) -> tuple[Toolpath, NDArray[np.int64]]:
    """The path as the controller is given it: the contour where the controller adds the offset.

    Returns:
        The path, and for each motion of the given one the motion that makes it (corners are made by the next one).

    Raises:
        FenrikError: when a compensated stretch has no contour, which is a defect of its strategy.
    """
    source = np.arange(len(path))
    if not np.any(path.offset_mm):
        return path, source
    keep = np.ones(len(path), bool)
    point, centre = path.point.copy(), path.centre.copy()
    sided = path.offset_mm * np.where(path.side == 41, 1.0, -1.0)
    edges = np.flatnonzero(np.diff(np.concatenate([[0.0], sided, [0.0]])))
    for a, b in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        if sided[a]:
            _write_contour(path, a, b, float(sided[a]), point, centre, keep)
    moved = replace(path, point=point, centre=centre, offset_mm=np.zeros(len(path))).rows(np.flatnonzero(keep))
    number = np.cumsum(keep) - 1
    return moved, np.where(keep, number, number + 1)


def _write_contour(
    path: Toolpath, a: int, b: int, left_mm: float, point: Points, centre: Points, keep: NDArray[np.bool_]
) -> None:
    """Motions a … b − 1 under one compensation: the first goes onto it, the others are moved to the contour."""
    way = [
        Stretch(
            path.point[i - 1, :2],
            path.point[i, :2],
            path.centre[i, :2] if path.motion[i] else None,
            {Motion.ARC_CCW: 1, Motion.ARC_CW: -1}.get(Motion(int(path.motion[i])), 0),
            i,
        )
        for i in range(a + 1, b)
        if path.motion[i] or np.abs(path.point[i, :2] - path.point[i - 1, :2]).max() > 1e-9
    ]
    try:
        contour = written_contour(way, left_mm)
    except CompensationError as error:
        raise fail("compensation", f"finds no contour: it {error.what}.", "Compensate by computer.") from error
    made, moving = {s.source: s for s in contour}, {s.source for s in way}
    at = contour[0].start
    for i in range(a, b):
        if i in made:
            at = made[i].end
        elif i in moving:
            keep[i] = False
        point[i, :2] = at


def without_tiny_arcs(path: Toolpath, resolution_mm: float) -> Toolpath:
    """Arcs whose ends round to one place would be read as whole circles; the short ones become lines."""
    before = np.vstack([path.point[:1], path.point[:-1]])
    near = np.abs(path.point - before)[:, :2].max(axis=1, initial=0.0) < 2 * resolution_mm
    near &= path.offset_mm == 0  # where a contour is written, it is that whose arcs matter
    tiny = [i for i in np.flatnonzero(near & (path.motion > 0)) if path.sweep(int(i), before[i])[0] < np.pi]
    if not tiny:
        return path
    motion = path.motion.copy()
    motion[tiny] = Motion.LINE
    return replace(path, motion=motion)


def _split_arcs(path: Toolpath) -> Toolpath:
    """Arcs in pieces of at most 120°, since a radius word cannot say more than a half turn and is vague near one."""
    if not np.any(path.motion):
        return path
    rows: list[int] = []
    points: list[np.ndarray] = []
    starts = np.vstack([path.point[:1], path.point[:-1]])
    for i in range(len(path)):
        if path.motion[i] == Motion.LINE:
            rows.append(i)
            points.append(path.point[i])
            continue
        c, a = path.centre[i, :2], starts[i, :2] - path.centre[i, :2]
        sweep, radius = path.sweep(i, starts[i])
        count = int(np.ceil(np.rad2deg(sweep) / MAX_ARC_DEG_BY_RADIUS - 1e-9))
        sign = -1.0 if path.motion[i] == Motion.ARC_CW else 1.0
        first = np.arctan2(a[1], a[0])
        for k in range(1, count + 1):
            angle = first + sign * sweep * k / count
            z = starts[i, 2] + (path.point[i, 2] - starts[i, 2]) * k / count
            rows.append(i)
            points.append(
                path.point[i]
                if k == count
                else np.array([c[0] + radius * np.cos(angle), c[1] + radius * np.sin(angle), z])
            )
    return replace(path.rows(np.array(rows)), point=np.array(points))
