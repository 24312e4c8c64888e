"""Every path looks at itself before its row counts as ready.

The motions are moved through the stock as it is there, with the whole tool, and the surface that they leave is held
against the exact part. What cuts into the part, takes stock at rapid, or touches stock or fixture with a body that does
not cut is taken out of the path: a way from pass to pass is led over the top instead; of passes the stretch is left out
and told with its place. Arcs whose outer edge cuts are fed for that one. No code of the strategies is used here.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter

from fenrik.core.contact.clearance import clearance
from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.cutting.speeds import share_on_arc
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.proof.deviation import FLATTEN_MM, ROUNDING_MM
from fenrik.core.proof.grazing import grazed_mm3
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import CutRecord, Stock, cut
from fenrik.core.toolpath import Kind, Motion, Poses, Toolpath
from fenrik.core.toolpath.mending import Detour, hopped, skimmed, without
from fenrik.core.tools import Tool, assembly_of, cutting_profile

CONTACT_MM = 1e-3
"""Less than this is flush; the proof of the rounded program allows a little more."""
SKIM_MM = 2.0
"""A stretch that takes nothing is a link where it is at least so long: a control stutters at shorter ones."""
GRAZE_CELLS = 0.1
"""A motion that takes less than this share of a cell's square grazes: the stock does not tell it from none."""
ONE_SIDE_DEG = 100.0
"""A cutter with a longer arc in material has some on both sides of its way."""
OUTER_SHARE, STEEP = 0.9, 0.7
"""How far out of the tool's radius, and how upright, surface is that the edge outside of an arc leaves as a wall."""
EXACTLY, BY_BLOCKS = 3, 3
"""How often bad motions are taken out one by one, and then with all that belongs to them."""
REASONS = {
    "part": ("the cutter would go {:.3f} mm too deep into the part", "Take a smaller tool, or check heights."),
    "rapid": ("{:.3g} mm³ of stock stand in the way of a rapid", "Clear the stock first, or raise the retract height."),
    "neck": ("the neck would stand {:.2f} mm deep in the stock", "Take a longer tool, or clear the stock first."),
    "shank": ("the shank would stand {:.2f} mm deep in the stock", "Take a longer tool, or clear the stock first."),
    "holder": ("the holder would stand {:.2f} mm deep in the stock", "Take a longer tool, or clear the stock first."),
    "fixture": ("the tool would stand {:.2f} mm deep in a fixture", "Move the fixture, or keep out of there."),
}


@dataclass(frozen=True)
class Surroundings:
    """What a path is looked at with, all in the setup's frame.

    Attributes:
        stock: before the row. seen: gives the same upright in the frame. part: None where there is none.
        tolerance_mm: how far it may go into the part. safe_mm: height of rapids. entry_feed: mm/min. link_feed: mm/min,
            of ways in air; None where they stay as they are. cutting_feed: mm/min asked for straight cuts; None where
            feeds on arcs stay as they are.
    """

    stock: Stock
    seen: Callable[[], Stock]
    part: DistanceIndex | None
    tool: Tool
    tolerance_mm: float
    safe_mm: float
    entry_feed: float
    link_feed: float | None = None
    cutting_feed: float | None = None
    fixtures: Mesh | None = None

    @cached_property
    def fixture_distances(self) -> DistanceIndex:
        assert self.fixtures is not None
        return DistanceIndex.build(self.fixtures)


@dataclass(frozen=True)
class Audited:
    """A path with nothing bad in it.

    Attributes:
        told: what of it was left out. stock: after it. idle: (n,) motions that take nothing.
        took_mm3, engaged_deg: (n,) volume that each takes, and its arc in material as the stock's rays tell it.
    """

    path: Toolpath
    told: list[Unreached]
    stock: Stock
    idle: NDArray[np.bool_]
    took_mm3: Points
    engaged_deg: Points


@dataclass
class _Bad:
    """Motions (n,) that must not be (mask), the reason that was found first, and how much."""

    mask: NDArray[np.bool_]
    reason: NDArray[np.object_]
    amount: Points

    @classmethod
    def none(cls, n: int) -> _Bad:
        return cls(np.zeros(n, bool), np.full(n, "", object), np.zeros(n))

    def add(self, reason: str, rows: NDArray[np.int64], amount: Points) -> None:
        new = ~self.mask[rows] | ((self.reason[rows] == reason) & (amount > self.amount[rows]))
        rows, amount = rows[new], amount[new]
        self.mask[rows], self.reason[rows], self.amount[rows] = True, reason, amount


def audited(path: Toolpath, around: Surroundings, progress: Progress = silent) -> Audited:
    """A path without what must not be in it; what was left out of its passes is told."""
    told: list[Unreached] = []
    if len(path) < 2:
        return Audited(path, told, around.stock, np.ones(len(path), bool), *np.zeros((2, len(path))))
    before = around.stock.forgotten()
    for attempt in range(EXACTLY + BY_BLOCKS):
        poses = path.poses(FLATTEN_MM)
        stock, record = cut(before, poses, assembly_of(around.tool), 0, progress)
        bad = _bad_motions(path, poses, stock, record, around)
        if not bad.mask.any():
            found = _found(path, told, poses, stock, record)
            return _leaner(replace(found, path=_eased(path, poses, stock, record, around)), before, around)
        mended = without(path, bad.mask, _detour(around), whole=attempt >= EXACTLY)
        told += _told(path, mended, bad)
        path = mended
    told.append(_nothing_left(path))
    return Audited(Toolpath.empty(), told, before, np.zeros(0, bool), *np.zeros((2, 0)))


def _eased(path: Toolpath, poses: Poses, stock: Stock, record: CutRecord, around: Surroundings) -> Toolpath:
    """The same, with arcs that were fed for a wall inside fed for the edge outside where it cuts as well."""
    if around.cutting_feed is None:
        return path
    level = (path.motion != Motion.LINE) & (np.abs(path.normal[:, 2]) > 1 - 1e-9)
    # What its strategy slows already is fed for the edge outside, as wide as the tool is where it cuts.
    plain = (path.kind == Kind.CUT) & (path.feed > (1 - 1e-9) * around.cutting_feed)
    rows = np.flatnonzero(level & plain)
    bend = np.linalg.norm((path.starts() - path.centre)[rows, :2], axis=1)
    most = around.cutting_feed * share_on_arc(bend, around.tool.cutter.radius_mm, np.ones(len(rows), bool))
    fast = path.feed[rows] > (1 + 1e-9) * most
    rows, most = rows[fast], most[fast]
    if len(rows) == 0:
        return path
    engaged = np.zeros(len(path))
    np.maximum.at(engaged, poses.source, record.engagement_deg)
    slow = (engaged[rows] > ONE_SIDE_DEG) | _cut_outside(path, poses, stock, rows, around.tool.cutter.radius_mm)
    feed, edge = path.feed.copy(), path.edge.copy()
    feed[rows[slow]], edge[rows[slow]] = most[slow], 1.0
    return replace(path, feed=feed, edge=edge)


def _cut_outside(
    path: Toolpath, poses: Poses, stock: Stock, rows: NDArray[np.int64], radius_mm: float
) -> NDArray[np.bool_]:
    """Which of some level arcs leave a wall outside, where the edge is fastest."""
    reach = np.full(len(path), np.inf)
    reach[rows] = np.linalg.norm((path.starts() - path.centre)[rows, :2], axis=1) + OUTER_SHARE * radius_mm
    outside = np.zeros(len(path), bool)
    for places, normals, sources in stock.hits_by_tile(cut_only=True):
        arc = poses.source[sources]
        upright = np.flatnonzero(np.isfinite(reach[arc]) & (np.abs(normals[:, 2]) < STEEP))
        arc = arc[upright]
        away = np.linalg.norm((places[upright] - path.centre[arc])[:, :2], axis=1)
        outside[arc[away > reach[arc]]] = True
    return outside[rows]


def _leaner(found: Audited, before: Stock, around: Surroundings) -> Audited:
    """The same without ways in air, where that is asked for, quicker, and as clear."""
    if around.link_feed is None:
        return found
    path = hopped(found.path, found.idle, _detour(around), around.link_feed)
    if path is not found.path:
        poses = path.poses(FLATTEN_MM)
        stock, record = cut(before, poses, assembly_of(around.tool), 0)
        if not _bad_motions(path, poses, stock, record, around).mask.any():
            found = _found(path, found.told, poses, stock, record)
    return replace(found, path=skimmed(found.path, found.idle, SKIM_MM, around.link_feed))


def _bad_motions(path: Toolpath, poses: Poses, stock: Stock, record: CutRecord, around: Surroundings) -> _Bad:
    bad = _Bad.none(len(path))
    for mine, deep in _gouges(poses, stock, around):
        bad.add("part", mine, deep)
    fast = np.isin(path.kind[poses.source], [Kind.RAPID, Kind.RETRACT])
    radius, cell = around.tool.cutter.radius_mm, stock.lattice.cell_mm
    took = record.removed_mm3 > grazed_mm3(path.lengths()[poses.source], radius, CONTACT_MM, cell)
    rows = np.flatnonzero(fast & took)
    bad.add("rapid", poses.source[rows], record.removed_mm3[rows])
    assembly = assembly_of(around.tool)
    for k, body in enumerate(assembly.watched):
        rows = np.flatnonzero(record.touch_mm[:, k] > CONTACT_MM)
        bad.add(body.role, poses.source[rows], record.touch_mm[rows, k])
    if around.fixtures is not None:
        none = [0.0] * len(assembly.profiles)
        for near in clearance(around.fixture_distances, poses, assembly, none):
            rows = np.flatnonzero(near.mm < -CONTACT_MM)
            bad.add("fixture", poses.source[rows], -near.mm[rows])
    return bad


def _gouges(poses: Poses, stock: Stock, around: Surroundings) -> list[tuple[NDArray[np.int64], Points]]:
    """Motions, and how much deeper than they may they cut into the part, place by place."""
    if around.part is None:
        return []
    other = stock.error_mm + FLATTEN_MM + ROUNDING_MM
    found = []
    for places, normals, sources in stock.hits_by_tile(cut_only=True):
        new = np.flatnonzero(around.part.rays.may_be_deeper(places, normals, around.tolerance_mm + other))
        if len(new) == 0:
            continue
        near = signed_distances(around.part, places[new])
        deep = -near.mm - (around.tolerance_mm + near.bound_mm + other)
        rows = np.flatnonzero((deep > 0) & near.known)
        if len(rows):
            found.append((poses.source[sources[new[rows]]], deep[rows]))
    return found


def _found(path: Toolpath, told: list[Unreached], poses: Poses, stock: Stock, record: CutRecord) -> Audited:
    """A path with what it did; motions that take nothing, or graze what was cut before, are idle."""
    took, engaged = np.zeros((2, len(path)))
    np.add.at(took, poses.source, record.removed_mm3)
    np.maximum.at(engaged, poses.source, record.engagement_deg)
    idle = took <= GRAZE_CELLS * stock.lattice.cell_mm**2 * path.lengths() + 1e-9
    return Audited(path, told, stock, np.asarray(idle), took, engaged)


def _detour(around: Surroundings) -> Detour:
    stock, cutter = around.seen(), around.tool.cutter
    cell, (x, y, _) = stock.lattice.cell_mm, stock.node_axes()
    # The highest stock within the tool's radius of a node, and a cell more.
    reach = math.ceil(cutter.radius_mm / cell + 1.5)
    tops = maximum_filter(np.pad(stock.tops(), reach + 1, constant_values=-np.inf), 2 * reach + 1)

    def stands(places: Points) -> Points:
        rows, columns = (
            np.clip(np.rint((places[..., a] - axis[0]) / cell).astype(int) + reach + 1, 0, len(axis) + 2 * reach + 1)
            for a, axis in enumerate((x, y))
        )
        return np.asarray(tops[rows, columns])

    # What is narrower above than below may stand under what it leaves.
    lifts = cutting_profile(cutter).is_plain
    return Detour(around.safe_mm, stands, around.entry_feed, cutter.centre_cutting, lifts)


def _told(path: Toolpath, mended: Toolpath, bad: _Bad) -> list[Unreached]:
    """What was left out of passes, by reason; nothing where all passes are still there."""
    gone = path.cut_length_mm() - mended.cut_length_mm()
    if gone < 1e-6:
        return []
    told = []
    for reason in dict.fromkeys(bad.reason[bad.mask]):
        rows = np.flatnonzero(bad.mask & (bad.reason == reason))
        worst = int(rows[bad.amount[rows].argmax()])
        words = REASONS[reason][0].format(bad.amount[worst])
        left_out = f"{gone:.1f} mm of {path.cut_length_mm():.0f} mm of passes are left out: {words}."
        told.append(_place(path, worst, left_out, REASONS[reason][1]))
    return told


def _place(path: Toolpath, row: int, words: str, advice: str) -> Unreached:
    x, y, z = (float(v) for v in path.point[row])
    return Unreached(reason=words, place=(x, y, z), advice=advice)


def _nothing_left(path: Toolpath) -> Unreached:
    words = "No way was found that keeps clear of the part and of standing stock; nothing is cut."
    return _place(path, 0, words, "Take another tool, other heights, or another strategy.")
