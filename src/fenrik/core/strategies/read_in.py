"""Cutter location text: the motions of a file in the words of ISO 3592, as they are told there."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.strategies.common import CommonParams, Outcome, require
from fenrik.core.strategies.declared import MILLS, Strategy
from fenrik.core.strategies.given import Given
from fenrik.core.toolpath.cl_reading import CL_SUFFIXES, Edit, Read, edited, read_cl
from fenrik.core.tools import Cutter
from fenrik.core.tools.apt import apt_parameters

MOST_TOLD = 20
SAME_MM = 5e-3
NAMES = ("diameter", "corner radius", "corner centre out", "corner centre up", "end angle", "side angle", "length")
SHAPE = 6
"""Of the seven parameters of a cutter, those that are its shape; its length may be what it is."""


class ReadIn(CommonParams):
    """Takes the motions of a cutter location text."""

    idle = ("allowance_mm", "floor_allowance_mm")
    strategy: Literal["cutter location text"] = "cutter location text"
    file: str = Field(
        default="",
        max_length=200,
        title="File",
        description="Of this job; ISO 3592 words",
        json_schema_extra={"brings": ",".join(CL_SUFFIXES)},
    )
    unit: Literal["as told", "mm", "inch"] = Field(
        default="as told", title="Unit", description="Of a text that names none"
    )
    edits: list[Edit] = Field(
        default_factory=list, max_length=2000, title="Changes of its lines", json_schema_extra={"shown": True}
    )


def read_in(given: Given, params: ReadIn) -> Outcome:
    """The path of the text; what of it is not understood is told by line.

    Raises:
        FenrikError: where no file is named, a change names no line, or nothing moves.
    """
    require(bool(params.file), "file", "names none.", "Bring a cutter location text in, and choose it.")
    text = edited(given.text.decode("utf-8", "replace"), params.edits)
    read = read_cl(text, "" if params.unit == "as told" else params.unit)
    require(len(read.path) > 1, "file", "holds no motion that is understood.", "Look at its lines.", params.file)
    return Outcome(read.path.moved(given.zero), [*_told(read, given.zero), *_of_tool(read, given.cutter, given.zero)])


def _told(read: Read, zero: Points) -> list[Unreached]:
    """Lines that are not understood, and a text that names no unit."""
    found = []
    for record in read.wrong[:MOST_TOLD]:
        at = max((r.motion for r in read.records if r.line < record.line), default=-1)
        reason = f"Line {record.line} is not understood: {record.wrong}. ({record.text[:60]})"
        found.append(Unreached.at(read.path.point[max(at, 0)] + zero, reason, "Correct the line, or drop it."))
    if len(read.wrong) > MOST_TOLD:
        last = found[-1]
        rest = len(read.wrong) - MOST_TOLD
        found.append(last.model_copy(update={"reason": f"{rest} more lines are not understood."}))
    if not read.unit:
        reason = "The text names no unit: its lengths are taken as mm."
        found.append(Unreached.at(read.path.point[0] + zero, reason, "Choose its unit."))
    return found


def _of_tool(read: Read, cutter: Cutter, zero: Points) -> list[Unreached]:
    """Where the text was made for a cutter of another shape."""
    own = apt_parameters(cutter)
    found = []
    for cutters in read.cutters:
        apart = [
            f"{name} {theirs:g} instead of {mine:g}"
            for name, theirs, mine in zip(NAMES[:SHAPE], cutters, own, strict=False)
            if abs(theirs - mine) > SAME_MM
        ]
        if apart:
            reason = f"The text was made for another cutter: {', '.join(apart)}."
            found.append(Unreached.at(read.path.point[0] + zero, reason, "Choose the tool that it was made for."))
    return found


STRATEGY = Strategy(
    params=ReadIn,
    run=read_in,
    version=1,
    group="Read in",
    cutters=(*MILLS, "lollipop", "dovetail", "slotting cutter", "drill", "spot drill", "reamer"),
    needs=("stock", "cutter", "zero", "text"),
    sees="all",
    everywhere=True,
    makes=lambda params: "nothing",
)
