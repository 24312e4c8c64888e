"""Bodies of the machine against each other, against the tool, and against what is clamped, along every motion."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from fenrik.core.findings import Finding
from fenrik.core.frames import Frame, Points
from fenrik.core.machines.bodies import STILL
from fenrik.core.machines.linkage import Linkage, Near, Solids
from fenrik.core.proof.checks.telling import CONTACT_MM, finding_at
from fenrik.core.proof.run import Run
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import stock_mesh
from fenrik.core.tools import Tool, assembly_of

RING = 96
OUTSIDE = 1.0 / np.cos(np.pi / RING)
"""Corners of a round body stand outside it."""


@dataclass(frozen=True)
class _Scene:
    linkage: Linkage
    carried: list[Solids]
    """What moves with the tool."""
    others: list[Solids]
    clamped: list[Solids]


def check(run: Run) -> list[Finding]:
    """Collisions and near misses of machine bodies; what a tool meets in stock and fixtures others tell."""
    machine, motions = run.inputs.machine, run.motions
    if not machine.placed_bodies() or len(motions.path) == 0:
        return []
    found: list[Finding] = []
    scene = _scene(run)
    reached = np.asarray(~np.isnan(motions.joints).any(axis=1))
    changed = np.append(True, motions.tool[1:] != motions.tool[:-1])
    breaks = np.flatnonzero(motions.fresh | ~reached | changed)
    for a, b in itertools.pairwise([*breaks.tolist(), len(motions.path)]):
        rows = np.arange(a, b)[reached[a:b]]
        if len(rows):
            found += _along(run, scene, rows)
    return found


def _scene(run: Run) -> _Scene:
    machine = run.inputs.machine
    linkage = Linkage(machine.joints)
    carried: list[Solids] = []
    others: list[Solids] = []
    for body in machine.placed_bodies():
        solids = Solids.around(body.name, body.frame, body.groups)
        (carried if body.frame in linkage.branches[0] else others).append(solids)
    last = linkage.branches[1][-1] if linkage.branches[1] else STILL
    table, to_table = machine.table, np.array(run.inputs.at) - run.inputs.zero

    def of_mesh(name: str, mesh: Mesh) -> Solids:
        return Solids(name, last, [(table.to_part(mesh.vertices + to_table), mesh.triangles)], hollow=True)

    clamped = [of_mesh("stock", stock_mesh(run.inputs.stock))]
    if run.inputs.fixtures is not None:
        clamped.append(of_mesh("fixture", run.inputs.fixtures))
    return _Scene(linkage, carried, others, clamped)


def _tool_bodies(tool: Tool, frame: int, face: Frame) -> list[Solids]:
    """Cutter, shank and holder at the spindle's face."""
    assembly = assembly_of(tool)
    named = [("cutter", assembly.cutting), *((b.role, b.profile) for b in assembly.watched)]
    found = []
    for role, profile in named:
        if profile is None:
            continue
        groups = []
        for piece in profile.convex():
            z = np.unique(np.concatenate([piece.bands[:, 0], piece.bands[:, 1]]))
            rings = [_ring(max(piece.radius_at(v), 1e-3), v - tool.assembly_mm) for v in z.tolist()]
            groups.append(face.to_part(np.vstack(rings)))
        found.append(Solids.around(role, frame, groups))
    return found


def _ring(radius_mm: float, height_mm: float) -> Points:
    t = 2 * np.pi * np.arange(RING) / RING
    return np.column_stack([OUTSIDE * radius_mm * np.cos(t), OUTSIDE * radius_mm * np.sin(t), np.full(RING, height_mm)])


def _along(run: Run, scene: _Scene, rows: np.ndarray) -> list[Finding]:
    """Findings of one tool on motions that follow one another."""
    motions, machine, enough = run.motions, run.inputs.machine, run.inputs.settings.near_miss_mm
    tool = run.inputs.tools[int(motions.tool[rows[0]])]
    values = machine.stands(motions.joints[rows], run.inputs.at, np.full(len(rows), tool.assembly_mm))
    tool_frame = scene.linkage.branches[0][-1] if scene.linkage.branches[0] else STILL
    pairs = [(a, b) for a in _tool_bodies(tool, tool_frame, machine.face) for b in [*scene.others, *scene.carried]]
    pairs += list(itertools.combinations(scene.carried, 2))
    pairs += [(a, b) for a in scene.carried for b in [*scene.others, *scene.clamped]]
    pairs += [(a, b) for a, b in itertools.combinations(scene.others, 2)]
    found = []
    for a, b in pairs:
        if scene.linkage.neighbours(a.frame, b.frame):
            continue
        near = list(scene.linkage.closest(a, b, values, enough))
        for one in near:
            row = rows[min(one.row + 1, len(rows) - 1)]
            run.clearance_mm[row] = min(run.clearance_mm[row], one.mm)
        found += _told(run, rows, near, a.name, b.name)
    return found


def _told(run: Run, rows: np.ndarray, near: list[Near], a: str, b: str) -> list[Finding]:
    """One finding for what touches, one for what only comes near."""
    found = []
    touching = [n for n in near if n.mm <= CONTACT_MM]
    for some, kind, severity in (
        (touching, "collision", "fault"),
        ([] if touching else near, "near miss", "attention"),
    ):
        if not some:
            continue
        worst = min(some, key=lambda n: n.mm)
        row = int(rows[min(worst.row + 1, len(rows) - 1)])
        deep = max(-worst.mm, 0.0)
        what = f"stands {deep:.2f} mm deep in" if kind == "collision" else f"comes within {worst.mm:.2f} mm of"
        found.append(
            finding_at(
                run,
                row,
                kind=kind,
                severity=severity,
                amount=deep if kind == "collision" else worst.mm,
                count=len({n.row for n in some}),
                bodies=[a, b],
                message=f"{a.capitalize()} {what} {b}.",
                advice="Tilt the tool less, move the work on the table, or take a longer tool.",
            )
        )
    return found
