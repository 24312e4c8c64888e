"""Read a program back: an interpreter of ISO 6983 words for milling.

Understood: motion G0 G1 G2 G3 (arcs by I J K or R, helical, in G17 G18 G19), dwell G4, units G20 G21, G90 G91, feed
modes G93 G94 G95, work offsets G54 to G59 and G54.1, tool length G43 G49, cutter compensation off G40, cycles
off G80, M0 M1 M2 M3 M4 M5 M6 M7 M8 M9 M30, F S T H N O P words, comments in brackets or after a semicolon, block
delete. Anything else is an error that names its line. Arc end points must fit their centre within the limits of the
NIST RS274/NGC interpreter report (0.002 mm, or one part in a thousand of the radius in rounding by R).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.posting import _reading_kernels as kernels

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
    kernels.NO_MOTION: ("has axis words but no motion word is in force", "Add G0 or G1."),
}


@dataclass(frozen=True)
class ReadBack:
    """What a program does, one row for each motion; a row's tool is at `point` afterwards.

    Attributes:
        point: (n, 3) end points in the work frame, mm.
        code: (n,) 0 rapid, 1 feed, 2 arc clockwise, 3 arc counter-clockwise.
        centre: (n, 3) of arcs, mm. plane: (n,) 17, 18 or 19.
        feed: (n,) mm/min, 0 for rapids. seconds: (n,) of dwell before the motion.
        tool, offset, length_offset, rpm, spindle (−1, 0, 1): (n,) in force.
        line: (n,) from 0.
        known: (n, 3) whether each coordinate had been given by then (before, the machine's place is unknown).
    """

    point: Points
    code: NDArray[np.int8]
    centre: Points
    plane: NDArray[np.int8]
    feed: Points
    seconds: Points
    tool: NDArray[np.int32]
    offset: NDArray[np.int16]
    length_offset: NDArray[np.int32]
    rpm: Points
    spindle: NDArray[np.int8]
    line: NDArray[np.int64]
    known: NDArray[np.bool_]


def read_program(text: bytes, tool: int = 0) -> ReadBack:
    """Interpret a program.

    Args:
        text: the program.
        tool: the tool in the spindle before it starts (for controllers without a tool changer).

    Raises:
        FenrikError: field `program`, naming the line and what is wrong in it.
    """
    data = np.frombuffer(text, np.uint8)
    columns = kernels.interpret(data, tool)
    trouble, line, letter, value = columns[0]
    if trouble:
        words, way_out = _TROUBLES[int(trouble)]
        shown = text.split(b"\n")[int(line)][:80].decode("ascii", "replace") if text else ""
        what = f" ({chr(int(letter))}{value:g})" if letter else ""
        raise fail("program", f"line {int(line) + 1} {words}{what}.", way_out, shown)
    (_, point, code, centre, plane, feed, seconds, tools, offset, length, rpm, spindle, lines, known) = columns
    return ReadBack(point, code, centre, plane, feed, seconds, tools, offset, length, rpm, spindle, lines, known)
