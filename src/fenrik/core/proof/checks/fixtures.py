"""Cutter, neck, shank and holder against the fixtures, in whatever pose."""

from __future__ import annotations

import numpy as np

from fenrik.core.contact.clearance import clearance
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.proof.checks.telling import CONTACT_MM, finding_at, runs_of
from fenrik.core.proof.cutting import passing_axis
from fenrik.core.proof.run import Group, Run
from fenrik.core.toolpath import Poses
from fenrik.core.tools import Assembly
from fenrik.core.tools.assembly import passing_profile
from fenrik.core.tools.cutters import BackBoringBar


def check(run: Run) -> list[Finding]:
    """All groups."""
    fixtures = run.inputs.fixtures
    if fixtures is None:
        return []
    index = DistanceIndex.build(fixtures)
    found: list[Finding] = []
    for group in run.groups:
        for poses, bodies in _by_spindle(group):
            found += _of_bodies(run, poses, bodies, index)
    return found


def _by_spindle(group: Group) -> list[tuple[Poses, list[tuple[Assembly, Points]]]]:
    """Steps with turning and with passing tool, where there are any, each with the tool's bodies and their places
    beside the axis."""
    here, moves, cutter = np.zeros(3), group.moves, group.tool.cutter
    # Not the holder once more, grown for the stock's sake.
    watched = tuple(body for body in group.assembly.watched if body.role != "near miss")
    still, others = np.flatnonzero(moves.passing), np.flatnonzero(~moves.passing)
    found = []
    if len(others):
        found.append((moves.poses.rows(others), [(Assembly(group.assembly.cutting, watched), here)]))
    if len(still):
        assert isinstance(cutter, BackBoringBar)
        disc = Assembly(passing_profile(cutter))
        found.append((moves.poses.rows(still), [(disc, passing_axis(cutter)), (Assembly(None, watched), here)]))
    return found


def _of_bodies(
    run: Run, poses: Poses, assemblies: list[tuple[Assembly, Points]], fixtures: DistanceIndex
) -> list[Finding]:
    """Steps in which a body touches a fixture, or the holder comes too near; the innermost body that does is told.

    Args:
        assemblies: bodies, and how far (x, y, z) they stand beside the axis.
    """
    limit = run.inputs.settings.near_miss_mm
    worst: dict[str, tuple[Points, Points]] = {}
    for assembly, aside in assemblies:
        names = [*(["cutter"] if assembly.cutting is not None else []), *(b.role for b in assembly.watched)]
        enough = [limit if name == "holder" else 0.0 for name in names]
        for name, near in zip(names, clearance(fixtures, poses.moved(aside), assembly, enough), strict=True):
            mm, place = near.mm, near.place
            if name in worst:
                nearer = mm < worst[name][0]
                mm, place = np.where(nearer, mm, worst[name][0]), np.where(nearer[:, None], place, worst[name][1])
            worst[name] = mm, place
    told = np.zeros(len(poses), bool)
    found: list[Finding] = []
    looks = [(name, *worst[name], -CONTACT_MM) for name in worst]
    looks += [("near miss", *worst["holder"], limit)] if "holder" in worst else []
    for name, mm, places, least in looks:
        bad = (mm < least) & ~told
        told |= bad
        for stretch in runs_of(np.flatnonzero(bad)):
            row = stretch[mm[stretch].argmin()]
            found.append(_finding(run, int(poses.source[row]), name, float(mm[row]), places[row], len(stretch)))
    return found


def _finding(run: Run, motion: int, name: str, gap: float, place: Points, count: int) -> Finding:
    near, limit = name == "near miss", run.inputs.settings.near_miss_mm
    return finding_at(
        run,
        motion,
        kind="near miss" if near else "fixture contact",
        severity="attention" if near else "fault",
        amount=max(gap, 0.0) if near else -gap,
        count=count,
        place=tuple(float(v) for v in place - run.inputs.zero),
        bodies=["holder" if near else name, "fixture"],
        message=f"The holder comes within {max(gap, 0.0):.2f} mm of a fixture; {limit:g} mm are asked for."
        if near
        else f"A fixture stands {-gap:.2f} mm deep in the way of the {name}.",
        advice="Move or lower the fixture, or keep the path away from it.",
    )
