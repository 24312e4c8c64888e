"""Cutter, neck, shank and holder against the fixtures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.proof.checks.telling import CONTACT_MM, MAX_FINDINGS_OF_A_KIND, finding_at, runs_of
from fenrik.core.proof.cutting import passing_axis
from fenrik.core.proof.run import Group, Run
from fenrik.core.solids.model import Mesh
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Body, Profile
from fenrik.core.tools.assembly import passing_profile
from fenrik.core.tools.cutters import BackBoringBar
from fenrik.core.tools.underside import undersides_of

MARGINS_MM = (4.0, 0.5, 0.06, 0.01)
"""A body grown by a margin is looked at twice as far apart; where even that stays clear, nothing between was missed."""
BATCH = 400_000


def check(run: Run) -> list[Finding]:
    """All groups."""
    fixtures = run.inputs.fixtures
    if fixtures is None:
        return []
    found: list[Finding] = []
    for group in run.groups:
        for poses, bodies in _by_spindle(group):
            found += _of_bodies(run, poses, bodies, fixtures)
    return found


def _by_spindle(group: Group) -> list[tuple[Poses, list[tuple[Body, Points]]]]:
    """Steps with turning and with passing tool, where there are any, each with the tool's bodies and their places
    beside the axis."""
    here, moves, cutter = np.zeros(3), group.moves, group.tool.cutter
    watched = [(body, here) for body in group.assembly.watched]
    still, others = np.flatnonzero(moves.passing), np.flatnonzero(~moves.passing)
    found = []
    if len(others):
        assert group.assembly.cutting is not None
        found.append((moves.poses.rows(others), [(Body("cutting", group.assembly.cutting), here), *watched]))
    if len(still):
        assert isinstance(cutter, BackBoringBar)
        disc = Body("cutting", passing_profile(cutter))
        found.append((moves.poses.rows(still), [(disc, passing_axis(cutter)), *watched]))
    return found


def _of_bodies(run: Run, poses: Poses, bodies: list[tuple[Body, Points]], fixtures: Mesh) -> list[Finding]:
    """Steps in which a body touches a fixture, or the holder comes too near; the innermost body that does is told.

    Args:
        bodies: each body, and how far (x, y, z) it stands beside the axis.
    """
    worst: dict[str, tuple[Points, Points]] = {}
    for body, aside in bodies:
        name: str = "cutter" if body.role == "cutting" else body.role
        depth, place = deepest(fixtures, body.profile, poses.start + aside, poses.end + aside)
        before = worst.get(name)
        if before is not None:
            deeper = depth > before[0]
            depth, place = np.where(deeper, depth, before[0]), np.where(deeper[:, None], place, before[1])
        worst[name] = depth, place
    found: list[Finding] = []
    told = np.zeros(len(poses), bool)
    for name, (depth, places) in worst.items():
        bad = (depth > CONTACT_MM) & ~told
        told |= bad
        for stretch in runs_of(np.flatnonzero(bad))[:MAX_FINDINGS_OF_A_KIND]:
            row = stretch[depth[stretch].argmax()]
            found.append(_finding(run, int(poses.source[row]), name, float(depth[row]), places[row], len(stretch)))
    return found


def _finding(run: Run, motion: int, name: str, depth: float, place: Points, count: int) -> Finding:
    near, limit = name == "near miss", run.inputs.settings.near_miss_mm
    return finding_at(
        run,
        motion,
        kind="near miss" if near else "fixture contact",
        severity="attention" if near else "fault",
        amount=limit - depth if near else depth,
        count=count,
        place=tuple(float(v) for v in place - run.inputs.zero),
        bodies=["holder" if near else name, "fixture"],
        message=f"The holder comes closer than {limit:g} mm to a fixture."
        if near
        else f"The {name} runs {depth:.2f} mm into a fixture.",
        advice="Move or lower the fixture, or keep the path away from it.",
    )


@dataclass(frozen=True)
class _Pieces:
    """Pieces of straight steps: which step, and the shares of it where each begins and ends."""

    row: NDArray[Any]
    low: Points
    high: Points

    def __len__(self) -> int:
        return len(self.row)

    def parted(self, lengths: Points, most_mm: float) -> _Pieces:
        """Pieces no longer than so much."""
        count = np.maximum(np.ceil((self.high - self.low) * lengths[self.row] / most_mm), 1).astype(np.int64)
        owner = np.repeat(np.arange(len(self)), count)
        number = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        step = ((self.high - self.low) / count)[owner]
        low = self.low[owner] + number * step
        return _Pieces(self.row[owner], low, low + step)

    def rows(self, index: NDArray[Any]) -> _Pieces:
        return _Pieces(self.row[index], self.low[index], self.high[index])


def deepest(fixtures: Mesh, profile: Profile, starts: Points, ends: Points) -> tuple[Points, Points]:
    """How deep a body stands in the fixtures in each straight step (0 where it stays clear), and the tip's place there.

    Over each place the height of the tip at which the body would touch the fixtures, dropped on them, is compared with
    the height of the tip. A step is looked at in pieces, with the body grown by half a piece's length on all sides: a
    piece whose middle stays clear then is clear throughout; the others are parted further. What touches by less than
    the last of `MARGINS_MM` counts as contact, so nothing is missed between places.
    """
    depth, place = np.zeros(len(ends)), ends.copy()
    pieces = _near(fixtures, profile.radius_mm + MARGINS_MM[0], starts, ends)
    lengths = np.linalg.norm(ends - starts, axis=1)
    sides = undersides_of(profile)
    for margin in MARGINS_MM:
        grown = [DropIndex.of(fixtures, side.grown(margin)) for side in sides]
        pieces = pieces.parted(lengths, 2 * margin)
        middle = starts[pieces.row] + ((pieces.low + pieces.high) / 2)[:, None] * (ends - starts)[pieces.row]
        touches = _over(grown, middle) > 0
        pieces, middle = pieces.rows(np.flatnonzero(touches)), middle[touches]
    if len(pieces):
        plain = [DropIndex.of(fixtures, side) for side in sides]
        whole = np.unique(pieces.row)
        # The ends of a step too, where a body that stands still is deepest.
        row = np.concatenate([pieces.row, whole, whole])
        at = np.concatenate([middle, starts[whole], ends[whole]])
        over = np.maximum(_over(plain, at), 2 * CONTACT_MM)
        order = np.lexsort((-over, row))
        first = order[np.unique(row[order], return_index=True)[1]]
        depth[row[first]], place[row[first]] = over[first], at[first]
    return depth, place


def _near(fixtures: Mesh, reach: float, starts: Points, ends: Points) -> _Pieces:
    """The steps whose box comes within reach of the fixtures' box, whole."""
    low, high = fixtures.bounds()
    lowest, highest = np.minimum(starts, ends), np.maximum(starts, ends)
    near = np.all((highest[:, :2] >= low[:2] - reach) & (lowest[:, :2] <= high[:2] + reach), axis=1)
    rows = np.flatnonzero(near & (lowest[:, 2] < high[2] + MARGINS_MM[0]))
    return _Pieces(rows, np.zeros(len(rows)), np.ones(len(rows)))


def _over(indices: list[DropIndex], places: Points) -> Points:
    """How far the tips at places (n, 3) stand under where the bodies touch."""
    parts = [
        np.max([tip_heights(i, places[k : k + BATCH, :2]) for i in indices], axis=0) - places[k : k + BATCH, 2]
        for k in range(0, len(places), BATCH)
    ]
    return np.concatenate(parts) if parts else np.zeros(0)
