"""Which tool of the job or the shop fits a feature."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from fenrik.core.tools import Tool
from fenrik.core.tools.assembly import wider_bodies
from fenrik.core.tools.cutters import (
    BackBoringBar,
    BallCutter,
    BullNoseCutter,
    ChamferMill,
    Drill,
    FaceMill,
    FlatCutter,
    Reamer,
    SpotDrill,
    Tap,
    ThreadMill,
)

SAME_MM = 0.01
ABOVE_STOCK_MM = 1.0
THINNER_MM = 0.1
"""How much thinner than the cutter a shank must be to go down beside a wall."""
BESIDE_MM = 0.4
"""Room in a hole that a back boring bar needs, both sides together."""


@dataclass
class Toolbox:
    """The job's tools first, then the shop's; those taken from the shop get numbers that are free in the job."""

    job: list[Tool]
    shop: list[Tool]
    longest_mm: float = np.inf
    """The longest tool that the machine takes."""
    taken: list[Tool] = field(default_factory=list)

    def take(self, tool: Tool) -> Tool:
        """The tool as the job will have it."""
        if any(t is tool for t in self.job + self.taken):
            return tool
        same = next((t for t in self.job + self.taken if t.cutter == tool.cutter), None)
        if same is not None:
            return same
        used = {t.number for t in self.job + self.taken}
        number = tool.number if tool.number not in used else next(n for n in range(1, 10_000) if n not in used)
        mine = tool.model_copy(update={"number": number})
        self.taken.append(mine)
        return mine

    @property
    def all(self) -> list[Tool]:
        return [t for t in self.job + self.taken + self.shop if t.assembly_mm <= self.longest_mm]

    def mills(self, largest_mm: float, deep_mm: float) -> list[Tool]:
        """End mills that reach a depth, the largest first."""
        fits = [
            t
            for t in self.all
            if type(t.cutter) is FlatCutter
            and t.cutter.diameter_mm <= largest_mm + 1e-9
            and self.reach_of(t) >= deep_mm - 1e-6
        ]
        return sorted(fits, key=lambda t: (-t.cutter.diameter_mm, t.number))

    def rounded(self, corner_mm: float, largest_mm: float, deep_mm: float) -> Tool | None:
        """The largest ball or bull-nose mill with a corner radius that reaches a depth."""
        fits = [
            t
            for t in self.all
            if isinstance(t.cutter, BallCutter | BullNoseCutter)
            and abs(t.cutter.corner_mm - corner_mm) < SAME_MM
            and t.cutter.diameter_mm <= largest_mm + 1e-9
            and self.reach_of(t) >= deep_mm - 1e-6
        ]
        return max(fits, key=lambda t: t.cutter.diameter_mm, default=None)

    @staticmethod
    def reach_of(tool: Tool) -> float:
        """How deep a tool gets into a narrow place: its flutes, and what above them is thinner than they are."""
        deep = tool.cutter.flute_length_mm
        for _, diameter, _, high in tool.stations():
            if diameter > tool.cutter.diameter_mm - THINNER_MM:
                break
            deep = high
        return min(deep, tool.stick_out_mm - 1.0)

    @staticmethod
    def clear_of_holder(tool: Tool) -> float:
        """How deep a tool may go below the top of the stock with nothing wider than the cutter in it."""
        return min([tool.stick_out_mm, *(low for _, low in wider_bodies(tool))]) - ABOVE_STOCK_MM

    def face_mill(self) -> Tool | None:
        found = [t for t in self.all if isinstance(t.cutter, FaceMill) and t.cutter.lead_deg == 90]
        return max(found, key=lambda t: t.cutter.diameter_mm, default=None)

    def drill(self, diameter_mm: float, short_mm: float, deep_mm: float) -> Tool | None:
        """The twist drill nearest to a diameter, no larger, that reaches the depth."""
        fits = [
            t
            for t in self.all
            if type(t.cutter) is Drill
            and -0.02 <= diameter_mm - t.cutter.diameter_mm <= short_mm
            and t.cutter.flute_length_mm >= deep_mm
        ]
        return min(fits, key=lambda t: (abs(diameter_mm - t.cutter.diameter_mm), t.number), default=None)

    def spot(self) -> Tool | None:
        return next((t for t in self.all if isinstance(t.cutter, SpotDrill)), None)

    def tap(self, names: list[str]) -> Tool | None:
        """The tap of the first of these threads that has one; of several the one that cuts deepest."""
        for name in names:
            fits = [
                (_full_threads(t.cutter), t) for t in self.all if isinstance(t.cutter, Tap) and t.cutter.thread == name
            ]
            if fits:
                return max(fits, key=lambda f: f[0])[1]
        return None

    def reamer(self, diameter_mm: float) -> Tool | None:
        return next(
            (t for t in self.all if isinstance(t.cutter, Reamer) and abs(t.cutter.diameter_mm - diameter_mm) < 0.02),
            None,
        )

    def back_boring_bar(self, diameter_mm: float, hole_mm: float, deep_mm: float) -> Tool | None:
        """A bar that cuts a diameter, goes through a hole, and reaches below its depth."""
        return next(
            (
                t
                for t in self.all
                if isinstance(t.cutter, BackBoringBar)
                and abs(t.cutter.diameter_mm - diameter_mm) < 0.02
                and t.cutter.passing_mm + BESIDE_MM <= hole_mm
                and t.stick_out_mm >= deep_mm + t.cutter.flute_length_mm
            ),
            None,
        )

    def thread_mill(self, pitch_mm: float, bore_mm: float) -> Tool | None:
        fits = [
            t
            for t in self.all
            if isinstance(t.cutter, ThreadMill)
            and abs(t.cutter.pitch_mm - pitch_mm) < 1e-6
            and t.cutter.diameter_mm < bore_mm
        ]
        return max(fits, key=lambda t: t.cutter.diameter_mm, default=None)

    def chamfer_mill(self, included_deg: float) -> Tool | None:
        return next(
            (
                t
                for t in self.all
                if isinstance(t.cutter, ChamferMill) and abs(t.cutter.included_deg - included_deg) < 1
            ),
            None,
        )


def _full_threads(tap: Tap) -> float:
    return tap.flute_length_mm - tap.lead_mm
