"""Rows for the holes of one side: spotted, drilled, milled, reamed, threaded, bored back, by the rules of a recipe."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fenrik.core.cutting.threads import standard_threads
from fenrik.core.planning.coverage import bores_of, far_bores, from_side
from fenrik.core.planning.planner import AFTER, BORE, DRILL, FLAT, OVER_MM, SPOT, Planner, has_bore, mouth_for
from fenrik.core.recipe import HoleWay
from fenrik.core.recognise.features import Hole, HoleStep
from fenrik.core.tools import Tool
from fenrik.core.tools.cutters import Drill, Tap

BORE_SHARE = 0.85
LEAST_MILL_MM = 0.5
BORE_FINISH_MM = 0.08
"""Less than a neck is thinner than its flutes."""
HALVES_MEET_MM = 1.0
"""How far a bore that is milled from both sides goes over its middle from each."""
NO_FAR = "it has no counterbore on its far side"


@dataclass
class HoleRows:
    """Holes into drafts of a planner."""

    planner: Planner

    def plan(self) -> None:
        """Rows for all holes that open here; those that none can be made for are left."""
        for hole in self.planner.found.holes:
            way: HoleWay = next((self.planner.ways[f] for f in hole.faces if f in self.planner.ways), "automatic")
            if hole.accessible is False:
                self.planner.skip(hole, hole.why or "it cannot be reached from here")
            elif way != "leave":
                self._hole(hole, way)

    def _hole(self, hole: Hole, way: HoleWay) -> None:
        """The bores of a hole from this side: the narrowest, those above it, and (bored back) the one below it."""
        if not has_bore(hole):
            return  # what of it can be seen gets rows by its places
        here = from_side(hole, self.planner.up)
        bores = bores_of(here)
        core = min(bores, key=lambda s: s.diameter_mm)
        narrowest = bores.index(core)
        far = far_bores(here)
        bar = self._bar_for(here, core, far, way)
        if not self.planner.made & set(core.faces):
            below = sum(s.depth_mm for s in here.steps[here.steps.index(core) + 1 :])
            through = below + self.planner.stock_under if bar is not None else 0.0
            drawn = sum(s.depth_mm for s in here.steps[: here.steps.index(core) + 1])
            if not self._core(here, core, drawn + through, "automatic" if way == "back boring" else way, through):
                return
            self._spot(here, core, way)
        for step in bores[:narrowest]:
            if step.diameter_mm <= core.diameter_mm + OVER_MM or self.planner.made & set(step.faces):
                continue
            depth = sum(s.depth_mm for s in here.steps[: here.steps.index(step) + 1])
            if not self._mill_bore(here, step.diameter_mm, depth, step.faces, "counterbores are milled"):
                self.planner.skip(hole, f"no mill for its counterbore ⌀{step.diameter_mm:g}")
        if bar is not None:
            rule = "counterbores on the far side are bored back"
            self.planner.draft(AFTER, bar, "Bore back", {"strategy": "back boring"}, far[0].faces, rule)
        elif far and way != "back boring" and not all(self.planner.made & set(s.faces) for s in far):
            self.planner.skip(hole, f"its counterbore ⌀{far[-1].diameter_mm:g} opens on the other side")

    def _bar_for(self, hole: Hole, core: HoleStep, far: list[HoleStep], way: HoleWay) -> Tool | None:
        """The bar for a counterbore on the far side, where one is wanted; told where there is none."""
        if way != "back boring" or (far and self.planner.made & set(far[0].faces)):
            return None
        if len(far) != 1:
            self.planner.skip(
                hole, f"it has {len(far)} counterbores on its far side; a bar makes one" if far else NO_FAR
            )
            return None
        deep = sum(s.depth_mm for s in hole.steps)
        bar = self.planner.box.back_boring_bar(far[0].diameter_mm, core.diameter_mm, deep)
        if bar is None:
            what = f"⌀{far[0].diameter_mm:g} goes through ⌀{core.diameter_mm:g} and reaches {deep:.1f} mm deep"
            self.planner.skip(hole, f"no back boring bar of {what}")
        return bar

    def _spot(self, hole: Hole, core: HoleStep, way: HoleWay) -> None:
        """Spot a drilled hole, with its chamfer where the spot drill has its angle."""
        spot = self.planner.box.spot()
        small = core.diameter_mm <= self.planner.recipe.spot_up_to_mm
        wanted = self.planner.recipe.spot_holes and small and way != "bore milling" and self._is_drilled(core)
        if wanted and spot is not None and self.planner.is_free(spot, hole, core.diameter_mm / 2, cutter=True):
            mouth = mouth_for(hole, spot)
            self.planner.mouths |= set(mouth)
            name = "Spot with chamfer" if mouth else "Spot"
            self.planner.draft(
                SPOT, spot, name, {"strategy": "drilling", "cycle": "spot"}, core.faces, "drilled holes are spotted"
            )

    def _is_drilled(self, core: HoleStep) -> bool:
        return any(d.rank == DRILL and set(d.faces) & set(core.faces) for d in self.planner.drafts)

    def _core(self, hole: Hole, core: HoleStep, depth: float, way: HoleWay, beyond: float) -> bool:
        """Drill, mill, ream or tap the narrowest bore; False (and told) where no tool does.

        Args:
            beyond: how much of the depth lies below the bore itself and is opened with it.
        """
        diameter = core.diameter_mm
        thread = [n for n in hole.threads if standard_threads()[n].series == "metric coarse"]
        tapped = way == "tap" or (way == "automatic" and self.planner.recipe.threads == "tap")
        tap = self.planner.box.tap(thread) if tapped else None
        reamer = self.planner.box.reamer(diameter)
        ream = reamer is not None and (way == "ream" or (way == "automatic" and self.planner.recipe.ream != "never"))
        milled = way == "bore milling" or (way == "automatic" and diameter > self.planner.recipe.mill_over_mm)
        if ream and reamer is not None:
            rule = "reamed holes are drilled smaller"
            if not self._drill(hole, core, diameter - 0.2, depth, 0.6, rule, beyond):
                self.planner.skip(hole, f"no drill a little below ⌀{diameter:g} for reaming")
                return False
            self.planner.draft(
                AFTER,
                reamer,
                f"Ream ⌀{diameter:g}",
                {"strategy": "drilling", "cycle": "ream"},
                core.faces,
                "H7 bores are reamed",
            )
            return True
        drilled = not milled and self._drill(
            hole,
            core,
            diameter,
            depth,
            self.planner.recipe.drill_short_mm,
            f"drill of ⌀{diameter:g}, at most {self.planner.recipe.drill_short_mm:g} mm smaller",
            beyond,
        )
        why = self._why_milled(diameter, milled)
        if not drilled and not self._mill_bore(hole, diameter, depth, core.faces, why, beyond=beyond):
            if self._mill_half(hole, core, depth - beyond):
                return True
            self.planner.skip(hole, f"no drill of ⌀{diameter:g} reaches {depth:.1f} mm deep, and no mill goes in")
            return False
        if way == "automatic" and (tap is not None or (thread and self.planner.recipe.threads == "mill")):
            self._assume(
                f"Bores of ⌀{diameter:g} are taken for {thread[0]} and threaded; if not, have them left plain."
            )
        if tap is not None:
            self._tap(hole, tap, core, depth - beyond)
        elif thread and (way == "thread milling" or (way == "automatic" and self.planner.recipe.threads == "mill")):
            mill = self.planner.box.thread_mill(standard_threads()[thread[0]].pitch_mm, diameter)
            if mill is None:
                self.planner.skip(hole, f"no thread mill for {thread[0]}")
                return False
            self.planner.draft(
                AFTER,
                mill,
                f"Thread {thread[0]}",
                {"strategy": "thread milling", "thread": thread[0]},
                core.faces,
                "threads are milled",
            )
        return True

    def _assume(self, words: str) -> None:
        if words not in self.planner.assumed:
            self.planner.assumed.append(words)

    def _tap(self, hole: Hole, tap: Tool, core: HoleStep, depth: float) -> None:
        """Tap a bore; no deeper than the tap cuts, and told where that is less than half a diameter."""
        cutter = tap.cutter
        assert isinstance(cutter, Tap)
        params: dict[str, Any] = {"strategy": "drilling", "cycle": "tap"}
        most = cutter.flute_length_mm - cutter.lead_mm - self.planner.recipe.break_through_mm
        if depth > most and most < cutter.diameter_mm / 2:
            cuts = cutter.flute_length_mm - cutter.lead_mm
            self.planner.skip(
                hole, f"tap T{tap.number} cuts full threads over {cuts:.1f} mm only; the bore is {depth:.1f} deep"
            )
            return
        if depth > most:
            params |= {"depth_mm": round(min(2 * cutter.diameter_mm, most), 2), "depth_from": "tip"}
        self.planner.draft(AFTER, tap, f"Tap {cutter.thread}", params, core.faces, "bores of tap-drill size are tapped")

    def _why_milled(self, diameter: float, by_rule: bool) -> str:
        if by_rule:
            return f"holes over {self.planner.recipe.mill_over_mm:g} mm are milled"
        return f"there is no drill of ⌀{diameter:g}"

    def _drill(
        self, hole: Hole, core: HoleStep, diameter: float, depth: float, short: float, rule: str, beyond: float
    ) -> bool:
        point = 0.35 * diameter + (self.planner.recipe.break_through_mm if hole.through else 0.0)
        tool = self.planner.box.drill(diameter, short, depth + point)
        if tool is None or not self.planner.is_free(tool, hole, depth + point):
            return False
        deep = depth / tool.cutter.diameter_mm >= self.planner.recipe.peck_over * self.planner.pecking.begins
        params = {
            "strategy": "drilling",
            "cycle": "peck" if deep else "drill",
            "break_through_mm": self.planner.recipe.break_through_mm + beyond,
        }
        if deep:
            params["peck_mm"] = round(self.planner.pecking.first * tool.cutter.diameter_mm, 2)
        assert isinstance(tool.cutter, Drill)
        self.planner.draft(DRILL, tool, f"Drill ⌀{tool.cutter.diameter_mm:g}", params, core.faces, rule)
        if not hole.through and hole.steps[-1].kind == "flat bottom":
            self._mill_bore(hole, core.diameter_mm, depth, core.faces, "flat bottoms are milled after drilling", FLAT)
        return True

    def _mill_bore(
        self,
        hole: Hole,
        diameter: float,
        depth: float,
        faces: list[int],
        rule: str,
        rank: int = BORE,
        beyond: float = 0.0,
        raised: float = 0.0,
    ) -> bool:
        mills = [t for t in self._bore_mills(diameter, depth) if self.planner.is_free(t, hole, depth)]
        if not mills or mills[0].cutter.diameter_mm < LEAST_MILL_MM:
            return False
        through = 0.0 if raised else self.planner.recipe.break_through_mm + beyond
        params = {"strategy": "bore milling", "break_through_mm": through, "finish_mm": BORE_FINISH_MM}
        if raised:
            params["bottom_mm"] = raised
        self.planner.draft(rank, mills[0], "Mill bores", params, faces, rule)
        return True

    def _bore_mills(self, diameter: float, depth: float) -> list[Tool]:
        """Mills that go down a bore so deep with room to go round."""
        mills = self.planner.box.mills(self.planner.recipe.largest_mill_mm, depth)
        return [t for t in mills if t.cutter.diameter_mm <= BORE_SHARE * diameter]

    def _mill_half(self, hole: Hole, core: HoleStep, depth: float) -> bool:
        """Mill a through bore that is too deep from one side down over its middle, where the rest can be milled from
        the other side; that is told, and left to a setup from there.

        Args:
            depth: of the bore's end below the opening.
        """
        half = core.depth_mm / 2 + HALVES_MEET_MM
        above, below = depth - core.depth_mm, sum(s.depth_mm for s in hole.steps[hole.steps.index(core) + 1 :])
        if not hole.through or not self._bore_mills(core.diameter_mm, below + half):
            return False
        rule = "bores that are deeper than mills reach are milled from both sides"
        raised = round(core.depth_mm - half, 3)
        if not self._mill_bore(hole, core.diameter_mm, above + half, core.faces, rule, raised=raised):
            return False
        if not self.planner.begun & set(core.faces):
            self.planner.skip(
                hole, f"no tool goes {depth:.1f} mm deep: the other half is to be milled from the far side"
            )
        return True
