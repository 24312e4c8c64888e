"""The motions of posted programs, as the interpreter reads them back, in the setup's frame."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.machines import Held, Machine, strayed, turned_deg, wanted_minutes
from fenrik.core.machines.chain import Vector3
from fenrik.core.posting import Controller, ControllerState, Posted, ReadBack, rows_of_lines
from fenrik.core.toolpath import Kind, Motion, Toolpath, motion_times
from fenrik.core.tools import Tool

SHARES = (0.0, 0.25, 0.5, 0.75, 1.0)
LEVER_MM = 50.0
"""A tool that leans otherwise than it should is off by as much as a place so far up on it."""
PLANE_NORMALS = np.array([[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]])
"""Normals of the planes G17, G18, G19 (ISO 6983-1): arcs turn right-handed about them under G3."""


@dataclass(frozen=True)
class ProgramMotions:
    """All motions of a setup's programs in the order they run.

    Attributes:
        path: the motions (frame of the stock); kinds are those of the path that was posted on the same line.
        fresh: (n,) whether the place before a motion was unknown, so that it starts where it ends.
        operation, tool, program, line: (n,) which each motion belongs to.
        seconds: (n,) time of each motion, tool changes and dwell included.
        rpm: (n,) spindle speed in force.
        joints: (n, joints) values of the machine's joints, the work zero at their own, mm and degrees; NaN where it
            does not reach.
        apart: (n,) how far each strays anywhere from its counterpart of the path; NaN where it has none.
        between: (n,) how far a place of the cutter strays from a straight motion while joints turn evenly, mm.
        ends_apart_mm: how far a posted place strays from the same place of the path at most.
        missing: how many motions of the path are not in the programs.
    """

    path: Toolpath
    fresh: NDArray[np.bool_]
    operation: NDArray[np.int32]
    tool: NDArray[np.int32]
    program: NDArray[np.int32]
    line: NDArray[np.int64]
    seconds: Points
    rpm: Points
    joints: Points
    apart: Points
    between: Points
    ends_apart_mm: float = 0.0
    missing: int = 0


def read_motions(
    controller: Controller, machine: Machine, programs: list[Posted], tools: Mapping[int, Tool], first_tools: list[int],
    zero: Points, at: Vector3 = (0.0, 0.0, 0.0),
) -> ProgramMotions:  # fmt: skip
    """Read programs back.

    Args:
        controller: the one that they were posted for.
        programs: the posted programs in the order they run.
        tools: by their numbers.
        first_tools: the tool in the spindle before each program.
        zero: the work zero in the frame of the stock. at: the same over the middle of the table's top.
    """
    pieces = []
    lengths = {number: tool.assembly_mm for number, tool in tools.items()}
    for number, (program, tool) in enumerate(zip(programs, first_tools, strict=True)):
        before = ControllerState(machine, tool, lengths, program.radii_mm, at)
        read = controller.read(program.text, before)
        pieces.append(_one(program, read, number, zero, before, controller.holds, tools))
    if not pieces:
        none, rows, lines = np.zeros(0), np.zeros(0, np.int32), np.zeros(0, np.int64)
        joints = np.zeros((0, len(machine.all_joints())))
        return ProgramMotions(
            Toolpath.empty(), np.zeros(0, bool), rows, rows, rows, lines, none, none, joints, none, none
        )
    names = [n for n in ProgramMotions.__dataclass_fields__ if n not in ("path", "ends_apart_mm", "missing")]
    joined = {n: np.concatenate([getattr(p, n) for p in pieces]) for n in names}
    return ProgramMotions(
        path=Toolpath.joined([p.path for p in pieces]),
        ends_apart_mm=max(p.ends_apart_mm for p in pieces),
        missing=sum(p.missing for p in pieces),
        **joined,
    )


def _one(
    program: Posted, read: ReadBack, number: int, zero: Points, before: ControllerState, holds: Held,
    tools: Mapping[int, Tool],
) -> ProgramMotions:  # fmt: skip
    machine = before.machine
    whole = np.flatnonzero(read.known.all(axis=1))
    n = len(whole)
    known_before = np.zeros(n, bool)
    known_before[1:] = whole[1:] == whole[:-1] + 1
    same_tool = np.zeros(n, bool)
    same_tool[1:] = read.tool[whole][1:] == read.tool[whole][:-1]
    fresh = ~(known_before & same_tool)
    operation = np.full(int(read.line[-1]) + 2 if len(read.line) else 1, -1, np.int32)
    kind = np.full(len(read.line), -1, np.int8)
    for op, lines, path in zip(program.operations, program.line_of_motion, program.paths, strict=True):
        operation[max(int(lines[0]) - 1, 0) : int(lines[-1]) + 1] = op
        row = rows_of_lines(lines, read.line)
        kind[row[row >= 0]] = path.kind[row >= 0]
    line = read.line[whole]
    operation = _owned(operation)
    code = read.code[whole]
    kinds = np.where(kind[whole] >= 0, kind[whole], np.where(code == 0, Kind.RAPID, Kind.CUT)).astype(np.int8)
    # What is rapid and what is not is for the program to say.
    kinds = np.where((code == 0) & ~np.isin(kinds, [Kind.RAPID, Kind.RETRACT]), Kind.RAPID, kinds).astype(np.int8)
    kinds = np.where((code > 0) & np.isin(kinds, [Kind.RAPID, Kind.RETRACT]), Kind.CUT, kinds).astype(np.int8)
    motion = np.where(code >= 2, code - 1, Motion.LINE).astype(np.int8)
    path = Toolpath.plain(read.point[whole] + zero, motion, read.centre[whole] + zero, kinds, read.feed[whole])
    path.axis[:] = read.axis[whole]
    path.spindle[:] = read.spindle[whole]
    path.normal[:] = PLANE_NORMALS[read.plane[whole] - 17]
    apart, ends, missing = _apart(program, path.moved(-zero), line)
    begins = np.flatnonzero(fresh)
    seconds = np.zeros(n)
    for a, b in zip(begins, [*begins[1:], n], strict=True):
        seconds[a:b] = motion_times(path.rows(np.arange(a, b)), machine.limits())
    tool = read.tool[whole]
    between = np.zeros(n)
    if not read.joints.shape[1]:
        joints = joints_of(machine, path.moved(-zero), tool, before)
    else:
        joints = read.joints[whole]
        between, least = _by_joints(path.moved(-zero), joints, tool, before, holds, tools)
        between, least = np.where(fresh, 0.0, between), np.where(fresh, 0.0, least)
        seconds = np.maximum(seconds, 60.0 * least)
    if n:
        seconds[begins] += np.where(same_tool[begins], 0.0, machine.tool_change_s)
    return ProgramMotions(
        path,
        fresh,
        operation[line],
        tool,
        np.full(n, number, np.int32),
        line,
        seconds + read.seconds[whole],
        read.rpm[whole],
        joints,
        apart,
        between,
        ends,
        missing,
    )


def _owned(operation: NDArray[np.int32]) -> NDArray[np.int32]:
    """Lines between operations belong to the one that they lead to; those after all to the last one."""
    known = np.flatnonzero(operation >= 0)
    if len(known) == 0:
        return operation
    following = np.searchsorted(known, np.arange(len(operation)))
    return operation[known[np.minimum(following, len(known) - 1)]]


def joints_of(machine: Machine, path: Toolpath, tool: NDArray[np.int32], before: ControllerState) -> Points:
    """Values of the joints at the end of each motion of a path in the work frame, (n, joints), NaN out of reach.

    Args:
        tool: (n,) the tool of each motion; those whose lengths are not known are measured by their tips.
    """
    values = np.empty((len(path), len(machine.all_joints())))
    for number in np.unique(tool):
        rows = np.flatnonzero(tool == number)
        values[rows] = machine.follow(path.rows(rows), before.lengths_mm.get(int(number), 0.0), before.at)
    return values


def _by_joints(
    path: Toolpath, joints: Points, tool: NDArray[np.int32], before: ControllerState, holds: Held,
    tools: Mapping[int, Tool],
) -> tuple[Points, Points]:  # fmt: skip
    """How far the cutter strays from each motion while the joints move evenly, and the least minutes of each, (n,)."""
    between, least = np.zeros(len(path)), np.zeros(len(path))
    for number in np.unique(tool):
        rows = np.flatnonzero(tool == number)
        chain = before.machine.chain(before.lengths_mm.get(int(number), 0.0), before.at)
        lever = tools[int(number)].cutter.flute_length_mm if int(number) in tools else 0.0
        between[rows] = strayed(chain, path.rows(rows), joints[rows], lever, holds)
        own = path.rows(rows)
        wanted = wanted_minutes(own.feed, own.lengths(), turned_deg(chain, joints[rows]))
        least[rows] = chain.least_minutes(joints[rows], wanted)
    return between, least


def _apart(program: Posted, path: Toolpath, line: NDArray[np.int64]) -> tuple[Points, float, int]:
    """How far each motion strays from its counterpart of the path, (n,) with NaN where it has none; how far their ends
    stray at most; and how many motions of the path are missing.

    Both are looked at after the same shares of each motion: so a line in place of an arc, or an arc the other way
    round, is told too.
    """
    apart, ends, missing = np.full(len(path), np.nan), 0.0, 0
    for lines, written in zip(program.line_of_motion, program.paths, strict=True):
        row = rows_of_lines(lines, line)
        there = np.flatnonzero(row >= 0)
        missing += len(written) - len(there)
        if len(there) == 0:
            continue
        worst = np.abs(path.point[row[there]] - written.point[there]).max(axis=1)
        leant = np.abs(path.axis[row[there]] - written.axis[there]).max(axis=1)
        worst = np.maximum(worst, LEVER_MM * leant)
        ends = max(ends, float(worst.max()))
        # Between the ends only where a motion begins where its counterpart does.
        whole = there[(there > 0) & (row[there] > 0)]
        whole = whole[row[whole - 1] == row[whole] - 1]
        for share in SHARES:
            t = np.full(len(whole), share)
            away = np.linalg.norm(path.places(row[whole], t) - written.places(whole, t), axis=1)
            at = np.searchsorted(there, whole)
            worst[at] = np.maximum(worst[at], away)
        apart[row[there]] = worst
    return apart, ends, missing


def starts_of(motions: ProgramMotions) -> Points:
    """Where each motion begins, (n, 3)."""
    point = motions.path.point
    return np.where(motions.fresh[:, None], point, np.vstack([point[:1], point[:-1]]))
