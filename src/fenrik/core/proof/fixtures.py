"""Cutter, shank and holder against the fixtures."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from fenrik.core.contact import DropIndex, tip_heights
from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.proof.checks import MAX_FINDINGS_OF_A_KIND, finding_at, runs_of
from fenrik.core.proof.motions import ProgramMotions
from fenrik.core.solids.model import Mesh
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Body, Profile
from fenrik.core.tools.underside import undersides_of

if TYPE_CHECKING:
    from fenrik.core.proof.run import ProofInputs

STEP_MM = 0.5
CONTACT_MM = 1e-6
BATCH = 400_000


def check_fixtures(
    motions: ProgramMotions,
    poses: Poses,
    bodies: list[tuple[Body, Points]],
    fixtures: Mesh,
    times: Points,
    inputs: ProofInputs,
) -> list[Finding]:
    """Motions in which a body of the tool touches a fixture, or the holder comes too near.

    Places are sampled along each motion; over each the height of the tip at which the body would touch the fixtures
    (as a tool dropped on them) is compared with the height of the tip.

    Args:
        bodies: each body, and how far (x, y, z) it stands beside the axis.
    """
    worst: dict[str, tuple[Points, Points]] = {}
    for body, aside in bodies:
        name: str = "cutter" if body.role == "cutting" else body.role
        depth, place = _deepest(fixtures, body.profile, poses.start + aside, poses.end + aside)
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
        near = name == "near miss"
        for run in runs_of(np.flatnonzero(bad))[:MAX_FINDINGS_OF_A_KIND]:
            row = run[depth[run].argmax()]
            limit = inputs.settings.near_miss_mm
            message = (
                f"The holder comes closer than {limit:g} mm to a fixture."
                if near
                else f"The {name} runs {depth[row]:.2f} mm into a fixture."
            )
            finding = finding_at(
                motions,
                int(poses.source[row]),
                times,
                inputs.zero,
                kind="near miss" if near else "fixture contact",
                severity="attention" if near else "fault",
                amount=float(limit - depth[row] if near else depth[row]),
                count=len(run),
                bodies=[name if not near else "holder", "fixture"],
                message=message,
                advice="Move or lower the fixture, or keep the path away from it.",
            )
            x, y, z = (places[row] - inputs.zero).tolist()
            found.append(finding.model_copy(update={"place": (x, y, z)}))
    return found


def _deepest(fixtures: Mesh, profile: Profile, starts: Points, ends: Points) -> tuple[Points, Points]:
    """How deep a body stands in the fixtures during each motion (0 where it stays clear), and the tip's place there."""
    depth, place = np.zeros(len(ends)), ends.copy()
    low, high = fixtures.bounds()
    lowest, highest = np.minimum(starts, ends), np.maximum(starts, ends)
    reach = profile.radius_mm
    near = np.all((highest[:, :2] >= low[:2] - reach) & (lowest[:, :2] <= high[:2] + reach), axis=1)
    near &= lowest[:, 2] < high[2]
    rows = np.flatnonzero(near)
    if len(rows) == 0:
        return depth, place
    indices = [DropIndex.of(fixtures, side) for side in undersides_of(profile)]
    count = np.maximum(np.ceil(np.linalg.norm(ends[rows] - starts[rows], axis=1) / STEP_MM).astype(np.int64), 1)
    for begin in range(0, len(rows), BATCH):
        some, steps = rows[begin : begin + BATCH], count[begin : begin + BATCH]
        owner = np.repeat(np.arange(len(some)), steps + 1)
        share = np.concatenate([np.linspace(0, 1, n + 1) for n in steps.tolist()])[:, None]
        places = starts[some][owner] * (1 - share) + ends[some][owner] * share
        over = np.max([tip_heights(i, places[:, :2]) for i in indices], axis=0) - places[:, 2]
        first = np.concatenate([[0], np.cumsum(steps + 1)[:-1]])
        most = np.maximum.reduceat(over, first)
        # The first sample of each motion that is as deep as its deepest.
        at = np.flatnonzero(over == most[owner])
        _, which = np.unique(owner[at], return_index=True)
        bad = most > 0
        depth[some[bad]], place[some[bad]] = most[bad], places[at[which]][bad]
    return depth, place
