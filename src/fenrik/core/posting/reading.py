"""Read a program back: an interpreter of ISO 6983 words for milling.

Understood: motion G0 G1 G2 G3 (arcs by I J K or R, helical, in G17 G18 G19), dwell G4, units G20 G21, G90 G91, feed
modes G93 G94 G95, rotary axes A B C, the tip held on its line from G246 H to G247, home G28 (under G91 with zeros:
straight away), work offsets G54 to G59 and G54.1, tool length G43 G49, cutter compensation G40 G41 G42 D, cycles G73
G74 G81 to G87 G89 with G98 G99 and off G80, M0 M1 M2 M3 M4 M5 M6 M7 M8 M9 M19 M30, F S T H D N O P Q words, comments
in brackets or after a semicolon, block delete. Anything else is an error that names its line. Arc end points must fit
their centre within the limits of the NIST RS274/NGC interpreter report (0.002 mm, or one part in a thousand of the
radius in rounding by R).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import FenrikError, fail
from fenrik.core.frames import Points
from fenrik.core.machines import SAME_PLACE_MM
from fenrik.core.posting import _reading_kernels as kernels
from fenrik.core.posting.controller import ControllerState, ReadBack
from fenrik.core.toolpath.compensation import CompensationError, Stretch, tool_way

_TROUBLES = {
    kernels.BAD_CHARACTER: ("holds a character that starts no word", "Use letters followed by numbers."),
    kernels.BAD_NUMBER: ("has a letter without a number", "Give the word its number."),
    kernels.UNKNOWN_G: ("has a G word that is not understood", "Use only the words of this interpreter."),
    kernels.UNKNOWN_M: ("has an M word that is not understood", "Use only the words of this interpreter."),
    kernels.UNKNOWN_WORD: ("has a letter that is not understood", "Remove it."),
    kernels.NO_FEED: ("cuts before a feed was given", "Add an F word."),
    kernels.BAD_ARC: ("has an arc whose end does not lie on its circle", "Check I, J, K or R."),
    kernels.NO_CENTRE: ("has an arc without centre or radius", "Add I, J, K or R."),
    kernels.TWO_MOTIONS: ("has two words of one modal group", "Put them on lines of their own."),
    kernels.OPEN_COMMENT: ("has a bracket that is not closed", "Close the comment."),
    kernels.NO_END: ("ends without M2 or M30", "The program is not complete."),
    kernels.BEYOND_END: ("stands after the end of the program", "Remove it, or the M2 or M30 before it."),
    kernels.NO_OFFSET: ("names an extended work offset without its number", "Add P and the number to G54.1."),
    kernels.NO_DEPTH: ("starts a cycle without its depth Z or its plane R", "Give both."),
    kernels.DEPTH_ABOVE: ("has a cycle whose depth Z lies above its plane R", "Exchange them."),
    kernels.NO_PECK: ("has a peck cycle without a peck Q above 0", "Add Q."),
    kernels.MANY_PECKS: (
        f"has a peck cycle of more than {kernels.MOST_PECKS} pecks",
        "Check depth Z, plane R and peck Q.",
    ),
    kernels.MANY_MOTIONS: (
        f"is where the cycles come to more than {kernels.MOST_CYCLE_MOTIONS} motions",
        "Check their pecks, or split the program.",
    ),
    kernels.NO_BACK: ("has a back boring cycle without its height K between Z and R", "Give K."),
    kernels.CYCLE_INCREMENTAL: ("has a cycle under G91", "Use G90 with cycles."),
    kernels.SIDE_ON_ARC: (
        "begins or ends cutter compensation on an arc",
        "Put a straight motion after G41, G42 and G40.",
    ),
    kernels.SIDE_WITHOUT_OFFSET: ("starts cutter compensation without its offset", "Add D."),
    kernels.NO_HOME: ("sends axes home by a way that is not straight", "Write G91 G28 with a 0 for each axis."),
    kernels.NO_MOTION: ("has axis words but no motion word is in force", "Add G0 or G1."),
}


def read_program(
    text: bytes, tool: int = 0, radii_mm: Mapping[int, float] | None = None, before: ControllerState | None = None
) -> ReadBack:
    """Interpret a program.

    Args:
        text: the program.
        tool: the tool in the spindle before it starts (for controllers without a tool changer).
        radii_mm: the controller's table of compensation offsets by D number; those that are not in it are 0, as for
            a new tool whose wear is compensated.
        before: what else the control holds; a machine whose rotary joints turn is driven by them.

    Raises:
        FenrikError: field `program`, naming the line and what is wrong in it.
    """
    data = np.frombuffer(text, np.uint8)
    (trouble, line, letter, value), real, whole = kernels.interpret(data, tool)
    if trouble:
        words, way_out = _TROUBLES[int(trouble)]
        shown = text.split(b"\n")[int(line)][:80].decode("ascii", "replace") if text else ""
        what = f" ({chr(int(letter))}{value:g})" if letter else ""
        raise fail("program", f"line {int(line) + 1} {words}{what}.", way_out, shown)
    read = ReadBack(
        point=real[:, 0:3],
        axis=np.tile([0.0, 0.0, 1.0], (len(real), 1)),
        joints=np.zeros((len(real), 0)),
        centre=real[:, 3:6],
        feed=real[:, 6],
        rpm=real[:, 7],
        seconds=real[:, 8],
        code=whole[:, 0].astype(np.int8),
        plane=whole[:, 1].astype(np.int8),
        spindle=whole[:, 2].astype(np.int8),
        tool=whole[:, 3].astype(np.int32),
        length_offset=whole[:, 4].astype(np.int32),
        offset=whole[:, 5].astype(np.int16),
        known=(whole[:, 6:7] >> np.arange(3)) & 1 > 0,
        side=whole[:, 7].astype(np.int8),
        line=whole[:, 9],
    )
    offset = np.zeros(len(whole))
    for number, radius in (radii_mm or {}).items():
        offset[(whole[:, 8] == number) & (read.side != 0)] = radius
    if before is not None and before.machine.turns:
        read = _turned(read, real, whole, before, text)
    elif np.any(real[:, kernels.TURNS : kernels.TURNS + 3]):
        row = int(np.flatnonzero(real[:, kernels.TURNS : kernels.TURNS + 3].any(axis=1))[0])
        raise _trouble(read, text, row, "turns a rotary axis that the machine does not have", "Choose one that turns.")
    return _compensated(read, offset, text) if np.any(offset) else read


def _turned(read: ReadBack, real: Points, whole: NDArray[np.int64], before: ControllerState, text: bytes) -> ReadBack:
    """The places and directions of the tool on a machine whose rotary joints turn, and the values of its joints.

    Words X, Y and Z are values of the linear joints; while the tip is held they are its place in the work, which the
    control itself turns with the table.
    """
    machine, n = before.machine, len(read.line)
    names = [j.name for j in machine.joints]
    rotary = [k for k, j in enumerate(machine.joints) if j.kind == "rotary"]
    turns, held = real[:, kernels.TURNS : kernels.TURNS + 3], whole[:, 10] > 0
    strange = [c for k, c in enumerate("ABC") if c not in names and np.any(turns[:, k])]
    if strange:
        row = int(np.flatnonzero(turns[:, "ABC".index(strange[0])])[0])
        raise _trouble(read, text, row, f"turns {strange[0]}, which {machine.name} does not have", "Choose another.")
    joints = np.zeros((n, len(names)))
    for k in rotary:
        joints[:, k] = turns[:, "ABC".index(names[k])]
    for c, column in zip("XYZ", read.point.T, strict=True):
        if c in names:
            joints[:, names.index(c)] = column
    bent = np.flatnonzero((read.code >= 2) & (joints[:, rotary] != 0.0).any(axis=1))
    if len(bent):
        raise _trouble(read, text, int(bent[0]), "is an arc while a rotary axis is turned", "Write it in lines.")
    point, axis = read.point.copy(), read.axis.copy()
    for tool in np.unique(read.tool):
        rows = np.flatnonzero(read.tool == tool)
        chain = machine.chain(before.lengths_mm.get(int(tool), 0.0), before.at)
        of_tip = rows[held[rows]]
        joints[of_tip] = chain.placed(read.point[of_tip], joints[of_tip])
        pose = chain.forward(np.nan_to_num(joints[rows]))
        axis[rows] = pose.axis
        told = rows[~held[rows]]
        point[told] = pose.point[~held[rows]]
    way = np.linalg.norm(np.diff(point, axis=0, prepend=point[:1]), axis=1)
    turned = np.abs(np.diff(joints[:, rotary], axis=0, prepend=joints[:1, rotary])).max(axis=1)
    minutes = real[:, kernels.MINUTES]
    timed = minutes > 0
    feed = np.where(timed, np.where(way > SAME_PLACE_MM, way, turned) / np.where(timed, minutes, 1.0), read.feed)
    return replace(read, point=point, axis=axis, joints=joints, feed=feed)


def _compensated(read: ReadBack, offset: Points, text: bytes) -> ReadBack:
    """The motions of the axis where the written ones are those of the contour."""
    pieces, done = [], 0
    runs = np.flatnonzero(np.diff(np.concatenate([[0.0], offset * read.side, [0.0]])))
    for a, b in zip(runs[:-1].tolist(), runs[1:].tolist(), strict=True):
        if offset[a] and a:
            pieces += [read.rows(np.arange(done, a)), _offset_run(read, a, b, float(offset[a]), text)]
            done = b
    return ReadBack.joined([*pieces, read.rows(np.arange(done, len(read.line)))])


def _offset_run(read: ReadBack, a: int, b: int, radius: float, text: bytes) -> ReadBack:
    """Motions a … b − 1 under one compensation, on the offset; corners add motions to the line that they lead to."""
    starts = np.vstack([read.point[a - 1 : a], read.point[a : b - 1]])
    moved = [i for i in range(a, b) if np.abs(read.point[i, :2] - starts[i - a, :2]).max() > 1e-9 or read.code[i] >= 2]
    level = next((i for i in range(a, b) if read.plane[i] != 17), None)
    if level is not None:
        raise _trouble(read, text, level, "compensates outside the XY plane", "Compensate in G17.")
    written = [
        Stretch(
            starts[i - a, :2],
            read.point[i, :2],
            read.centre[i, :2] if read.code[i] >= 2 else None,
            {2: -1, 3: 1}.get(int(read.code[i]), 0),
            i,
        )
        for i in moved
    ]
    if not written:
        return read.rows(np.arange(a, b))
    try:
        way = tool_way(written, radius if read.side[a] == 41 else -radius, starts[0, :2])
    except CompensationError as error:
        way_out = f"Make it longer than the offset {radius:g} mm, the corners wider, or the offset smaller."
        raise _trouble(read, text, moved[error.index], error.what, way_out) from error
    rows, points, centres, codes, heights = [], [], [], [], []
    at = 0
    for i in range(a, b):
        own = []
        while at < len(way) and way[at].source == i:
            own.append(way[at])
            at += 1
        for k, stretch in enumerate(own):
            rows.append(i)
            points.append(stretch.end)
            centres.append(stretch.centre if stretch.centre is not None else np.zeros(2))
            codes.append({-1: 2, 1: 3}.get(stretch.turn, min(int(read.code[i]), 1)))
            heights.append(read.point[i, 2] if k == len(own) - 1 else starts[i - a, 2])
        if not own:
            rows.append(i)
            points.append(points[-1] if points else starts[0, :2])
            centres.append(np.zeros(2))
            codes.append(int(read.code[i]))
            heights.append(read.point[i, 2])
    made = read.rows(np.array(rows))
    seconds = np.where(np.append(True, np.diff(rows) > 0), made.seconds, 0.0)
    centre = made.centre.copy()
    centre[:, :2] = centres
    return replace(
        made,
        point=np.column_stack([np.array(points), heights]),
        centre=centre,
        code=np.array(codes, np.int8),
        seconds=seconds,
    )


def _trouble(read: ReadBack, text: bytes, row: int, what: str, way_out: str) -> FenrikError:
    line = int(read.line[row])
    shown = text.split(b"\n")[line][:80].decode("ascii", "replace")
    return fail("program", f"line {line + 1} {what}.", way_out, shown)


def rows_of_lines(lines: NDArray[np.int64], read: NDArray[np.int64]) -> NDArray[np.int64]:
    """Which motion that was read belongs to each motion that was written.

    Args:
        lines: (n,) line of each written motion, ascending. read: (m,) line of each motion that was read.

    Returns:
        (n,) row; where a line holds as many motions as were written on it one by one, else its last one; −1: none.
    """
    first, last = np.searchsorted(lines, lines, "left"), np.searchsorted(lines, lines, "right")
    left, right = np.searchsorted(read, lines, "left"), np.searchsorted(read, lines, "right")
    return np.where(right - left == last - first, left + np.arange(len(lines)) - first, right - 1)
