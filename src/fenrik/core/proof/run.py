"""Run the posted programs of a setup: remove material, watch the holder, compare with the part."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.machines import Machine
from fenrik.core.posting import Program
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof import checks
from fenrik.core.proof.fixtures import check_fixtures
from fenrik.core.proof.motions import ProgramMotions, read_motions, starts_of
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import CutRecord, Stock, cut
from fenrik.core.toolpath import ORIENTED, Kind, Poses
from fenrik.core.tools import Assembly, Body, Tool, assembly_of
from fenrik.core.tools.assembly import passing_profile
from fenrik.core.tools.cutters import BackBoringBar

FLATTEN_MM = 0.002
ROUNDING_MM = 1e-6


class ProofSettings(BaseModel):
    """What the proof holds results against."""

    model_config = ConfigDict(extra="forbid")
    near_miss_mm: float = Field(
        default=2.0,
        ge=0,
        le=50,
        title="Near-miss limit",
        description="A holder closer to the stock than this is reported",
        json_schema_extra={"unit": "mm"},
    )
    band_mm: float = Field(
        default=0.1,
        gt=0,
        le=10,
        title="Deviation band",
        description="Deviation within this counts as in tolerance",
        json_schema_extra={"unit": "mm"},
    )


@dataclass(frozen=True)
class ProofInputs:
    """All in the setup's frame; `zero` is its work zero there, `on_table` the zero's place from the table's middle,
    `table` the height of the table's top where it is known."""

    stock: Stock
    part: DistanceIndex
    programs: list[Program]
    tools: dict[int, Tool]
    first_tools: list[int]
    tolerances: dict[int, float]
    machine: Machine
    zero: Points
    settings: ProofSettings
    fixtures: Mesh | None = None
    on_table: tuple[float, float] | None = None
    table: float | None = None


@dataclass(frozen=True)
class Proof:
    """What the programs of a setup do.

    Attributes:
        motions: the motions as read back.
        removed_mm3, engagement_deg, clearance_mm: (n,) for each motion; clearance is capped at the near-miss limit.
        stocks: the stock after each operation, in order.
        findings: sorted by time.
        deviation: the cut stock against the part (`checks.Deviation`).
        by_operation: worst gouge, worst excess and peak engagement for each operation.
    """

    motions: ProgramMotions
    removed_mm3: Points
    engagement_deg: Points
    clearance_mm: Points
    stocks: list[tuple[int, Stock]]
    findings: list[Finding]
    deviation: checks.Deviation
    by_operation: dict[int, checks.OperationResult]
    source_motion: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))

    @property
    def times(self) -> Points:
        """End of each motion, seconds from the start."""
        return np.cumsum(self.motions.seconds)


def prove(inputs: ProofInputs, progress: Progress = silent) -> Proof:
    """Read the programs back, cut the stock with them, and check everything that can be checked.

    Raises:
        FenrikError: when a program cannot be read back, or uses a tool that the job does not have.
    """
    motions = read_motions(
        inputs.programs, inputs.first_tools, inputs.zero, inputs.machine.limits(), inputs.machine.tool_change_s
    )
    n = len(motions.path)
    removed, engagement = np.zeros(n), np.zeros(n)
    clearance = np.full(n, inputs.settings.near_miss_mm)
    stock, stocks, findings = inputs.stock, [], []
    source_motion: list[NDArray[np.int64]] = []
    times = np.cumsum(motions.seconds)
    findings += checks.check_machine(motions, inputs.tools, inputs.machine, inputs.zero, inputs.on_table)
    findings += checks.check_table(motions, times, inputs)
    groups = _groups(motions)
    base = 0
    for number, (first, last) in enumerate(groups):
        tool = inputs.tools[int(motions.tool[first])]
        rows = np.arange(first, last)
        moves = _flatten(motions, rows, tool)
        step = part_of(progress, 0.85 * number / len(groups), 0.85 * (number + 1) / len(groups))
        assembly = assembly_of(tool, inputs.settings.near_miss_mm)
        stock, moves, record = _cut_group(stock, moves, tool, assembly, base, step)
        source = moves.poses.source
        watched: list[str] = [b.role for b in assembly.watched]
        source_motion.append(source)
        base += len(source)
        np.add.at(removed, source, record.removed_mm3)
        np.maximum.at(engagement, source, record.engagement_deg)
        findings += checks.check_rapids(motions, rows, removed, times, inputs)
        findings += checks.check_stopped(motions, rows, removed, times, inputs)
        findings += checks.check_contact(motions, source, record, watched, times, inputs)
        if inputs.fixtures is not None:
            for poses, bodies in _by_spindle(moves, tool, assembly):
                findings += check_fixtures(motions, poses, bodies, inputs.fixtures, times, inputs)
        near = checks.near_depth(record, watched)
        np.minimum.at(clearance, source, inputs.settings.near_miss_mm - near)
        stocks.append((int(motions.operation[first]), stock))
    owner = np.concatenate(source_motion) if source_motion else np.zeros(0, np.int64)
    progress(0.88, "comparing with the part")
    deviation, gouges, by_operation = compare(stock, inputs, motions, owner, engagement, times)
    findings = sorted([*findings, *gouges], key=lambda f: (f.time_s or 0.0, f.kind))
    progress(1.0, "done")
    return Proof(motions, removed, engagement, clearance, stocks, findings, deviation, by_operation, owner)


@dataclass(frozen=True)
class _Moves:
    """Straight steps, and whether a back boring bar goes through a hole with the spindle stopped in its place."""

    poses: Poses
    passing: NDArray[np.bool_]

    def rows(self, index: NDArray) -> _Moves:
        return _Moves(self.poses.rows(index), self.passing[index])


def _cut_group(
    stock: Stock, moves: _Moves, tool: Tool, assembly: Assembly, base: int, progress: Progress
) -> tuple[Stock, _Moves, CutRecord]:
    """Move one tool through the stock.

    Motions with a back boring bar in its place are looked at first, with all the stock that the others then cut: the
    disc round its foot stands for the cutter there, about an axis of its own.

    Returns:
        The stock afterwards, the motions in the order of the record, the record.
    """
    still = np.flatnonzero(moves.passing)
    if len(still) == 0:
        stock, record = cut(stock, moves.poses, assembly, base, progress)
        return stock, moves, record
    assert isinstance(tool.cutter, BackBoringBar)
    moves = moves.rows(np.concatenate([still, np.flatnonzero(~moves.passing)]))
    n = len(still)
    through, working = moves.poses.rows(np.arange(n)), moves.poses.rows(np.arange(n, len(moves.poses)))
    _, touched = cut(stock, through, Assembly(None, assembly.watched))
    stock, passed = cut(stock, through.moved(_passing_axis(tool.cutter)), Assembly(passing_profile(tool.cutter)), base)
    stock, record = cut(stock, working, assembly, base + n, progress)
    together = CutRecord(
        np.concatenate([passed.removed_mm3, record.removed_mm3]),
        np.concatenate([np.zeros(n), record.engagement_deg]),
        np.concatenate([touched.touch_mm, record.touch_mm]),
        np.concatenate([touched.touch_place, record.touch_place]),
        passed.dirty | record.dirty,
    )
    return stock, moves, together


def _passing_axis(cutter: BackBoringBar) -> Points:
    """Way (x, y, z) from the spindle's axis to that of the disc round foot and edge."""
    return -np.array([*cutter.aside_mm, 0.0])


def _by_spindle(moves: _Moves, tool: Tool, assembly: Assembly) -> list[tuple[Poses, list[tuple[Body, Points]]]]:
    """Motions with turning and with passing tool, where there are any, each with the tool's bodies and their places
    beside the axis."""
    here = np.zeros(3)
    watched = [(body, here) for body in assembly.watched]
    still, others = np.flatnonzero(moves.passing), np.flatnonzero(~moves.passing)
    found = []
    if len(others):
        assert assembly.cutting is not None
        found.append((moves.poses.rows(others), [(Body("cutting", assembly.cutting), here), *watched]))
    if len(still):
        assert isinstance(tool.cutter, BackBoringBar)
        disc = Body("cutting", passing_profile(tool.cutter))
        found.append((moves.poses.rows(still), [(disc, _passing_axis(tool.cutter)), *watched]))
    return found


def _groups(motions: ProgramMotions) -> list[tuple[int, int]]:
    """Stretches of motions of one operation with one tool."""
    n = len(motions.path)
    if n == 0:
        return []
    change = (motions.operation[1:] != motions.operation[:-1]) | (motions.tool[1:] != motions.tool[:-1])
    begins = [0, *(np.flatnonzero(change) + 1).tolist()]
    return list(zip(begins, [*begins[1:], n], strict=True))


def _flatten(motions: ProgramMotions, rows: NDArray, tool: Tool) -> _Moves:
    """A stretch of motions of one tool as straight ones."""
    path = motions.path.rows(rows)
    lead = path.rows(np.array([0]))
    lead.point[0] = starts_of(motions)[rows[0]]
    lead.axis[0] = motions.path.axis[rows[0] - 1] if rows[0] and not motions.fresh[rows[0]] else path.axis[0]
    lead.motion[0] = 0
    flat, source = type(path).joined([lead, path]).flattened(FLATTEN_MM)
    source = np.maximum(source - 1, 0) + rows[0]
    poses = flat.steps(source, motions.fresh[source[1:]])
    passing = (motions.path.spindle[poses.source] == ORIENTED) & isinstance(tool.cutter, BackBoringBar)
    return _Moves(poses, passing)


def compare(
    stock: Stock,
    inputs: ProofInputs,
    motions: ProgramMotions,
    owner: NDArray[np.int64],
    engagement: Points,
    times: Points,
) -> tuple[checks.Deviation, list[Finding], dict[int, checks.OperationResult]]:
    """Signed distance of the cut surface to the part, gouges and unknown places as findings, results by operation."""
    places, _, sources = stock.hits()
    cut_within = stock.error_mm + FLATTEN_MM + ROUNDING_MM
    found = signed_distances(inputs.part, places)
    distance, known, bound = found.mm, found.known, found.bound_mm + cut_within
    if not known.any():
        empty = checks.Deviation(
            min_mm=0.0,
            max_mm=0.0,
            within_tolerance_fraction=1.0,
            error_bound_mm=cut_within,
            cell_mm=stock.lattice.cell_mm,
            edges_mm=[],
            counts=[],
        )
        return empty, checks.unknown_findings(places - inputs.zero, len(places)), {}
    deviation = checks.summarise(distance[known], inputs.settings.band_mm, float(bound.max()), stock.lattice.cell_mm)
    made = sources >= 0
    operation = np.full(len(places), -1, np.int32)
    operation[made] = motions.operation[owner[sources[made]]]
    results, gouges = {}, checks.unknown_findings(places[~known] - inputs.zero, len(places))
    for number, tolerance in inputs.tolerances.items():
        mine = (operation == number) & known
        working = (motions.operation == number) & (motions.path.kind == Kind.CUT)
        peak = float(engagement[working].max(initial=0.0))
        results[number] = checks.OperationResult(
            worst_gouge_mm=max(float(-distance[mine].min(initial=0.0)), 0.0),
            worst_excess_mm=max(float(distance[mine].max(initial=0.0)), 0.0),
            peak_engagement_deg=peak,
        )
        deep = np.flatnonzero(mine & (distance < -(tolerance + bound)))
        gouges += checks.gouge_findings(
            number, places[deep] - inputs.zero, -distance[deep], owner[sources[deep]], motions, times, tolerance
        )
    return deviation, gouges, results
