"""Programs moved through the stock, one stretch of one tool after another."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof.motions import ProgramMotions, read_motions, starts_of
from fenrik.core.proof.run import Group, Moves, Run
from fenrik.core.proof.scene import ProofInputs
from fenrik.core.stock import CutRecord, Stock, cut
from fenrik.core.toolpath import ORIENTED
from fenrik.core.tools import Assembly, Tool, assembly_of
from fenrik.core.tools.assembly import passing_profile
from fenrik.core.tools.cutters import BackBoringBar

FLATTEN_MM = 0.002


def run_programs(inputs: ProofInputs, progress: Progress = silent) -> Run:
    """Read the programs back and cut the stock with them.

    Raises:
        FenrikError: when a program cannot be read back, or uses a tool that the job does not have.
    """
    motions = read_motions(
        inputs.controller, inputs.machine, inputs.programs, inputs.tools, inputs.first_tools, inputs.zero, inputs.at
    )
    run = Run(inputs, motions, inputs.stock)
    stretches = groups_of(motions)
    for number, (first, last) in enumerate(stretches):
        tool = inputs.tools[int(motions.tool[first])]
        moves = flatten(motions, np.arange(first, last), tool)
        step = part_of(progress, number / len(stretches), (number + 1) / len(stretches))
        assembly = assembly_of(tool, inputs.settings.near_miss_mm)
        stock, moves, record = cut_group(run.stock, moves, tool, assembly, run.steps, step)
        run.add(Group(first, last, tool, moves, assembly, record), stock)
    return run


def cut_group(
    stock: Stock, moves: Moves, tool: Tool, assembly: Assembly, base: int, progress: Progress
) -> tuple[Stock, Moves, CutRecord]:
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
    stock, passed = cut(stock, through.moved(passing_axis(tool.cutter)), Assembly(passing_profile(tool.cutter)), base)
    stock, record = cut(stock, working, assembly, base + n, progress)
    together = CutRecord(
        np.concatenate([passed.removed_mm3, record.removed_mm3]),
        np.concatenate([np.zeros(n), record.engagement_deg]),
        np.concatenate([touched.touch_mm, record.touch_mm]),
        np.concatenate([touched.touch_place, record.touch_place]),
    )
    return stock, moves, together


def passing_axis(cutter: BackBoringBar) -> Points:
    """Way (x, y, z) from the spindle's axis to that of the disc round foot and edge."""
    return -np.array([*cutter.aside_mm, 0.0])


def groups_of(motions: ProgramMotions) -> list[tuple[int, int]]:
    """Stretches of motions of one operation with one tool."""
    n = len(motions.path)
    if n == 0:
        return []
    change = (motions.operation[1:] != motions.operation[:-1]) | (motions.tool[1:] != motions.tool[:-1])
    begins = [0, *(np.flatnonzero(change) + 1).tolist()]
    return list(zip(begins, [*begins[1:], n], strict=True))


def flatten(motions: ProgramMotions, rows: NDArray, tool: Tool) -> Moves:
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
    return Moves(poses, passing)
