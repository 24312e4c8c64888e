"""Rows for what no feature explains: every place of the surface that a side sees has a duty by how it lies.

Level places get a floor pass, steep ones a wall pass, the slopes between a finishing pass; all stock over them is
roughed in levels first. Tools are chosen by what they can truly touch (see `reach`): the largest that reaches most of
it, then smaller ones for what is left, down to the smallest that reaches anything.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenrik.core.planning.lying import STEEP, STEEPEST_SLOPE, STRATEGY_FOR, Mask, lying
from fenrik.core.planning.planner import BULK, FLOOR, FLUTES_USED, OVER_MM, SLOPE, WALL, Planner
from fenrik.core.tools import Tool
from fenrik.core.tools.cutters import BallCutter, BullNoseCutter, FlatCutter

MOST_SHARE, LEAST_SHARE, LEAST_MM2 = 0.6, 0.002, 1.0
MOST_TOOLS = 4
LEAST_FLOOR_SHARE = 0.004
"""Floors keep less than this in their corners, where the wall passes go."""
SCALLOP_MM = 0.03
NEARLY_UPRIGHT = 0.12
STEEPER_THAN_DEG = 55.0
"""What lies flatter than 60° is finished in lines; the two overlap a little."""
FLOOR_ALLOWANCE_MM = 0.2
OVER_FLOOR_MM = 0.5
ROUGH_TOLERANCE_MM = 0.05
LEAST_BULK_MM = 3.0
LEAST_DEPTH_MM = 0.05


@dataclass(frozen=True)
class Choice:
    """A tool and the places that it is chosen for, of all that it touches."""

    tool: Tool
    mine: Mask
    touched: Mask


@dataclass
class Duties:
    """One side of a part.

    Attributes:
        open: places that have no row yet and are to get one here. zero_z: height of the work zero.
    """

    planner: Planner
    open: Mask
    zero_z: float

    def __post_init__(self) -> None:
        self.places = self.planner.places
        cosine = self.places.normal[:, 2]
        self.lies = lying(cosine)
        self.slope = self.lies["slope"] & (cosine > STEEP)
        self.total = float(self.places.area_mm2.sum())
        self._touched: dict[int, Mask] = {}
        self._roughed_to = np.inf

    def plan(self) -> None:
        """Rows for all open places."""
        if not self.open.any():
            return
        roughed = self._bulk()
        self._floors(roughed)
        self._walls(roughed)
        self._slopes(roughed)

    def touched(self, tool: Tool) -> Mask:
        """Open places that a tool touches."""
        if id(tool) not in self._touched:
            mask = np.zeros(len(self.places), bool)
            rows = np.flatnonzero(self.open)
            mask[rows] = self.planner.reach.touched(tool, self.places.rows(rows))
            self._touched[id(tool)] = mask
        return self._touched[id(tool)]

    def _area(self, mask: Mask) -> float:
        return float(self.places.area_mm2[mask].sum())

    def choose(
        self,
        tools: list[Tool],
        wanted: Mask,
        least_share: float = LEAST_SHARE,
        deepest: Callable[[Tool], float] | None = None,
    ) -> list[Choice]:
        """The tools for some places, those first in the list first: each takes what those before it left.

        Args:
            least_share: what is less than this share of the part's surface is not worth another tool.
            deepest: gives the height to which a tool goes down, where that is not left to the part.
        """
        if not wanted.any() or not tools:
            return []
        z = self.places.place[:, 2]
        low = deepest or (lambda tool: -np.inf)
        reached = [wanted & self.touched(t) & (z >= low(t) - OVER_FLOOR_MM) for t in tools]
        left = np.logical_or.reduce(reached)
        least = max(least_share * self.total, LEAST_MM2)
        found: list[Choice] = []
        while len(found) < MOST_TOOLS and self._area(left) > least:
            whole = self._area(left)
            best = next((k for k, r in enumerate(reached) if self._area(r & left) >= MOST_SHARE * whole), None)
            if best is None:
                best = int(np.argmax([self._area(r & left) for r in reached]))
            found.append(Choice(tools[best], reached[best] & left, reached[best]))
            left = left & ~reached[best]
        return found

    def _mills(self, *kinds: type) -> list[Tool]:
        """Mills of some kinds no larger than the recipe's, the largest first; of equals the one that reaches deeper."""
        most = self.planner.recipe.largest_mill_mm
        fits = [t for t in self.planner.box.all if type(t.cutter) in kinds and t.cutter.diameter_mm <= most + 1e-9]
        return sorted(fits, key=lambda t: (-t.cutter.diameter_mm, t.cutter.corner_mm, t.number))

    def _faces(self, mask: Mask) -> list[int]:
        return np.unique(self.places.face[mask]).tolist()

    # Roughing

    def _bulk(self) -> Mask:
        """Roughing in levels down to the lowest place; gives the places over which nothing but allowances is left."""
        roughed = np.zeros(len(self.places), bool)
        mills = [t for t in self._mills(FlatCutter) if t.cutter.diameter_mm >= LEAST_BULK_MM]
        for k, choice in enumerate(self.choose(mills, self.open & ~self._faced(), deepest=self._deepest)):
            cutter = choice.tool.cutter
            bottom = max(self._lowest(choice.touched), self._deepest(choice.tool))
            if self.planner.stock_top - bottom < LEAST_DEPTH_MM:
                continue
            params: dict[str, Any] = {
                "strategy": "level roughing",
                "stepdown_mm": self.planner.stepdown(choice.tool),
                "stepover_mm": round(self.planner.recipe.stepover_percent / 100 * cutter.diameter_mm, 3),
                "bottom_mm": round(bottom - self.zero_z, 4),
                "allowance_mm": self.planner.recipe.wall_allowance_mm,
                "floor_allowance_mm": FLOOR_ALLOWANCE_MM,
                "tolerance_mm": ROUGH_TOLERANCE_MM,
            }
            rule = "largest mill that reaches most of it" if k == 0 else "what the larger mill is too wide for"
            name, faces = "Rough" if k == 0 else "Rough the rest", self._faces(choice.touched)
            self.planner.draft(BULK + k * 0.1, choice.tool, name, params, faces, rule)
            self._roughed_to = min(self._roughed_to, bottom)
            roughed |= choice.touched & (self.places.place[:, 2] >= bottom - OVER_FLOOR_MM)
        return roughed

    def _deepest(self, tool: Tool) -> float:
        """How far down a tool roughs: shank and holder stay over the stock, which stands beside the way until it is
        cleared."""
        box = self.planner.box
        return self.planner.stock_top - min(box.clear_of_holder(tool), box.reach_of(tool))

    def _lowest(self, mask: Mask) -> float:
        """The lowest height of some places: to the foot of their face where they go nearly down to it."""
        rows = np.flatnonzero(mask)
        k = rows[self.places.place[rows, 2].argmin()]
        z = float(self.places.place[k, 2])
        foot, head = self.planner.span_of(int(self.places.face[k]))
        return foot if z - foot < 0.1 * (head - foot) + 0.5 else z

    # Finishing

    def _floors(self, roughed: Mask) -> None:
        planner = self.planner
        wanted = self.open & self.lies["level"] & ~self._faced()
        for choice in self.choose(self._mills(FlatCutter), wanted & roughed, LEAST_FLOOR_SHARE):
            params: dict[str, Any] = {
                "strategy": STRATEGY_FOR["level"],
                "stepover_mm": round(0.6 * choice.tool.cutter.diameter_mm, 3),
                "allowance_mm": planner.recipe.wall_allowance_mm,
                "top_from": "geometry",
                "top_mm": OVER_FLOOR_MM,
            }
            planner.draft(FLOOR, choice.tool, "Floors", params, self._faces(choice.mine), "level areas")

    def _faced(self) -> Mask:
        """Level places that facing the top makes."""
        if not any(d.params["strategy"] == "facing" for d in self.planner.drafts):
            return np.zeros(len(self.places), bool)
        return self.lies["level"] & (self.places.place[:, 2] > self.planner.part_top - OVER_MM)

    def _walls(self, roughed: Mask) -> None:
        upright = self.open & self.lies["upright"] & roughed
        for choice in self.choose(self._mills(FlatCutter), upright):
            params: dict[str, Any] = {"strategy": STRATEGY_FOR["upright"], "stepdown_mm": self._flutes(choice)}
            self._draft_walls(WALL, choice, "Walls", params, "upright walls, by the part's own sections")
        left = self.open & self.lies["leaning"] & roughed
        # A round end leaves far fewer levels; a flat one is for what stands nearly upright, and for the foot.
        round_ = self._mills(BallCutter, BullNoseCutter)
        over = self.places.normal[:, 2] > NEARLY_UPRIGHT
        looks = ((round_, left & over), (self._mills(FlatCutter), left), (round_, left))
        for k, (mills, wanted) in enumerate(looks):
            for choice in self.choose(mills, wanted & left):
                params = {
                    "strategy": STRATEGY_FOR["leaning"],
                    "scallop_mm": SCALLOP_MM,
                    "steeper_than_deg": STEEPER_THAN_DEG,
                }
                rule = f"walls that lean, in levels that leave {SCALLOP_MM:g} mm"
                self._draft_walls(WALL + 0.1 + 0.1 * k, choice, "Leaning walls", params, rule)
                left = left & ~choice.touched

    def _draft_walls(self, rank: float, choice: Choice, name: str, params: dict[str, Any], rule: str) -> None:
        """A row for walls, that ends where roughing does where some go on below it: walls that meet take turns from
        level to level, so that above each pass nothing stands in the way of the neck."""
        faces = self._faces(choice.mine)
        if any(self.planner.span_of(f)[0] < self._roughed_to - OVER_FLOOR_MM for f in faces):
            params = params | {"bottom_from": "work zero", "bottom_mm": round(self._roughed_to - self.zero_z, 4)}
        if faces:
            self.planner.draft(rank, choice.tool, name, params, faces, rule)

    def _flutes(self, choice: Choice) -> float | None:
        """A stepdown where walls are higher than the flutes are long."""
        heights = [np.ptp(self.planner.span_of(f)) for f in self._faces(choice.mine)]
        flutes = choice.tool.cutter.flute_length_mm
        return None if max(heights) <= flutes else round(FLUTES_USED * flutes, 2)

    def _slopes(self, roughed: Mask) -> None:
        wanted = self.open & self.slope
        for choice in self.choose(self._mills(BallCutter, BullNoseCutter), wanted & roughed):
            cutter = choice.tool.cutter
            flattest = max(float(self.places.normal[choice.mine, 2].min()), STEEPEST_SLOPE)
            step = 2 * np.sqrt(2 * cutter.corner_mm * SCALLOP_MM) * flattest
            lean = np.sqrt(1 - flattest**2)
            aside = cutter.radius_mm - cutter.corner_mm + cutter.corner_mm * lean
            params: dict[str, Any] = {
                "strategy": STRATEGY_FOR["slope"],
                "stepover_mm": round(float(step), 3),
                "overlap_mm": round(float(aside), 3),
            }
            rule = f"slopes, in lines that leave {SCALLOP_MM:g} mm"
            self.planner.draft(SLOPE, choice.tool, "Slopes", params, self._faces(choice.mine), rule)
