"""The operations of one side under way: which features get which, with which tool, and why."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import groupby
from typing import Any

import numpy as np
import shapely

from fenrik.core.cutting.data import PECKING, Pecking
from fenrik.core.cutting.threads import standard_threads
from fenrik.core.frames import Frame, Points
from fenrik.core.planning.coverage import Uncovered, as_uncovered, bores_of, far_bores, from_side
from fenrik.core.planning.lying import LEVEL, STANDS, Mask
from fenrik.core.planning.reach import Reach
from fenrik.core.planning.tooling import Toolbox
from fenrik.core.recipe import HoleWay, Recipe
from fenrik.core.recognise import Recognition
from fenrik.core.recognise.features import Chamfer, Feature, Hole, HoleStep, Pocket, mouth_of
from fenrik.core.regions import Shadow
from fenrik.core.regions.polygons import to_shape
from fenrik.core.solids import Solid
from fenrik.core.solids.sampling import SurfacePlaces
from fenrik.core.targeting import lower_rim
from fenrik.core.tools import Tool
from fenrik.core.tools.cutters import Drill, SpotDrill, Tap

OVER_MM = 0.01
CORNER_SHARE = 0.999
BORE_SHARE = 0.85
LEAST_MILL_MM = 0.5
NEARLY_ALL = 0.97
LOOKS_UP = 0.05
"""Cosine to the axis from which a chamfer is one that a cutter from above makes."""
BORE_FINISH_MM = 0.08
"""Less than a neck is thinner than its flutes."""
HALVES_MEET_MM = 1.0
"""How far a bore that is milled from both sides goes over its middle from each."""
FILLET_STEPS = 5
FINISH_MM, MOST_SIDE_PASSES, OUTSIDE_PLACES = 0.2, 3, 61
"""The outside is roughed by so many passes at most, which leave so much for the last one."""
FLUTES_USED = 0.8
"""Where a wall is higher than the flutes are long, each pass takes so much of their length."""
BROKEN_EDGES = ("chamfer", "countersink", "rounding", "taper")
"""Stretches of a hole that its bores do not make."""
NO_FAR = "it has no counterbore on its far side"
FACING, BULK, ROUGH, REST, BORE, SPOT, DRILL, FLAT, AFTER, FLOOR, WALL, SLOPE, CHAMFER = range(13)
ANY_ORDER = (BORE, SPOT, DRILL, FLAT, AFTER, FLOOR, CHAMFER)
"""Ranks whose rows have nothing to do with one another; in the others a smaller tool goes where a larger one was."""


def mouth_for(hole: Hole, tool: Tool) -> list[int]:
    """The faces of a hole's chamfer or countersink, looked at from its opening, where a spot drill makes it."""
    mouth, cutter = mouth_of(hole.steps), tool.cutter
    if mouth is None or mouth.angle_deg is None or not isinstance(cutter, SpotDrill):
        return []
    fits = abs(mouth.angle_deg - cutter.point_deg) < 1 and mouth.diameter_mm <= cutter.diameter_mm + 1e-6
    return mouth.faces if fits else []


def _has_bore(hole: Hole) -> bool:
    return any(s.kind in ("bore", "counterbore") for s in hole.steps)


@dataclass
class Draft:
    """Operations under way: rank, tool, name, parameters, faces."""

    rank: float
    tool: Tool
    name: str
    params: dict[str, Any]
    faces: list[int]
    rule: str


@dataclass
class Planner:
    """Features of one side into drafts of operations, by the rules of a recipe; what none can be made for is left.

    Attributes:
        ways: how holes with some faces are made in place of the rules. made: faces that operations make already.
        begun: faces of bores that operations make down to a part of their depth from the far side.
        stock_under: how far stock stands below the part. stock_box: (2, 3) its corners. all_holes: those of every side.
        pecking: how deep holes are drilled in the job's material.
        places: of the part's surface, in the frame. done: those that earlier rows finish. reach: what tools come to.
    """

    solid: Solid
    found: Recognition
    recipe: Recipe
    box: Toolbox
    ways: dict[int, HoleWay]
    up: np.ndarray
    part_top: float
    stock_top: float
    stock_under: float
    stock_box: Points
    all_holes: list[Hole]
    frame: Frame
    places: SurfacePlaces
    done: Mask
    reach: Reach
    drafts: list[Draft] = field(default_factory=list)
    made: frozenset[int] = frozenset()
    begun: frozenset[int] = frozenset()
    pecking: Pecking = PECKING["P"]
    left: list[Uncovered] = field(default_factory=list)
    assumed: list[str] = field(default_factory=list)
    mouths: set[int] = field(default_factory=set)
    """Chamfers and countersinks that are made with the spotting of their holes."""

    def is_free(self, tool: Tool, hole: Hole, depth: float, cutter: bool = False) -> bool:
        """Whether a tool is free with its tip so deep below the opening of a hole: what is over the cutter, or all."""
        assert hole.direction is not None
        opening = np.array(hole.place)
        if float(np.array(hole.direction) @ self.up) < 0:
            opening = opening - np.array(hole.direction) * max(hole.tip_depth_mm, hole.depth_mm)
        tip = self.frame.to_local(opening[None]) - [0.0, 0.0, depth]
        return bool(self.reach.stands_free(tool, tip, cutter)[0])

    def touches(self, tool: Tool, faces: list[int]) -> bool:
        """Whether a tool reaches nearly all of some faces."""
        rows = np.flatnonzero(np.isin(self.places.face, faces))
        if len(rows) == 0:
            return True
        own = self.places.rows(rows)
        area = own.area_mm2
        return float(area[self.reach.touched(tool, own)].sum()) >= NEARLY_ALL * float(area.sum())

    def taken(self) -> Mask:
        """Places on faces that rows of features make here, or that holes will have rows for from their own side."""
        mine = {f for d in self.drafts for f in d.faces}
        for pocket in self.found.pockets:
            if mine & set(pocket.floor):
                mine |= set(pocket.walls)
        holes = [h for h in [*self.found.holes, *self.all_holes] if _has_bore(h)]
        mine |= self.mouths | {f for h in holes for s in h.steps if s.kind not in BROKEN_EDGES for f in s.faces}
        return np.isin(self.places.face, sorted(mine))

    def skip(self, feature: Feature, why: str) -> None:
        self.left.append(as_uncovered(feature, why))

    def span_of(self, face: int) -> tuple[float, float]:
        """Lowest and highest place of a face along the tool's axis, from the frame's zero."""
        mesh = self.solid.mesh
        heights = mesh.vertices[mesh.triangles[mesh.face_ids == face].ravel()] @ self.up
        return (float(heights.min()), float(heights.max())) if len(heights) else (0.0, 0.0)

    # Top and outside

    def face_top(self) -> None:
        over = self.stock_top - self.part_top
        if not self.recipe.face_top or over <= OVER_MM or not self._top_is_open():
            return
        tool = self.box.face_mill() or next(iter(self.box.mills(self.recipe.largest_mill_mm, 0.0)), None)
        if tool is None:
            return
        step = self.stepdown(tool)
        params: dict[str, Any] = {"strategy": "facing", "stepdown_mm": step if step < over else None}
        self.draft(FACING, tool, "Face the top", params, [], f"{over:.2f} mm of stock over the part")

    def _top_is_open(self) -> bool:
        """Whether some of the part's own top has no row yet."""
        top = (self.places.normal[:, 2] > LEVEL) & (self.places.place[:, 2] > self.part_top - OVER_MM)
        return bool((top & ~self.done).any())

    def outside(self) -> None:
        profiles = self.found.outer_profiles if self.recipe.outside else []
        beside = self._widest_beside() if profiles else 0.0
        for profile in profiles:
            if not (self._stands(profile.faces) and all(self._ends_level(f) for f in profile.faces)):
                continue  # what leans, or ends in slopes, is no contour: it is roughed in levels, then its walls
            tools = self.box.mills(self.recipe.largest_mill_mm, profile.height_mm)
            tool = next((t for t in tools if self.touches(t, profile.faces)), None)
            if tool is None:
                continue  # what of it some mill reaches gets rows by its places
            step = round(max(self.recipe.stepover_percent / 100 * tool.cutter.diameter_mm, 0.1), 2)
            passes = max(int(np.ceil((beside - FINISH_MM) / step - 1e-9)), 1)
            if passes > MOST_SIDE_PASSES:
                continue  # more stands beside it than is worth going round: it is roughed in levels, then its walls
            params: dict[str, Any] = {
                "strategy": "contour",
                "stepdown_mm": self.stepdown(tool),
                "side_passes": passes + 1,
                "side_step_mm": step,
                "finish_mm": FINISH_MM,
                "finish_at_once": profile.height_mm + self.stock_under <= tool.cutter.flute_length_mm,
                "lead": "arc",
            }
            rule = f"largest mill up to {self.recipe.largest_mill_mm:g} mm that reaches {profile.height_mm:.1f} mm"
            self.draft(WALL, tool, "Outside", params, profile.faces, rule)

    def _stands(self, faces: list[int]) -> bool:
        """Whether some faces stand upright."""
        own = self.places.normal[np.isin(self.places.face, faces), 2]
        return float(np.mean(np.abs(own) <= STANDS)) >= NEARLY_ALL if len(own) else True

    def _ends_level(self, face: int) -> bool:
        """Whether the lower rim of a face is level as far as the face goes: a contour follows what is."""
        whole, rim = (
            np.vstack([self.frame.to_local(self.solid.edges[e].points)[:, :2] for e in edges])
            if edges
            else np.zeros((1, 2))
            for edges in (
                [e for loop in self.solid.faces[face].loops for e in loop],
                lower_rim(self.solid, self.frame, face),
            )
        )
        return bool(np.all(np.ptp(rim, axis=0) >= NEARLY_ALL * np.ptp(whole, axis=0)))

    def _widest_beside(self) -> float:
        """How far the stock stands out beside the part's outline where it is widest."""
        mesh = self.solid.mesh.in_frame(self.frame)
        outline = shapely.union_all(
            [shapely.Polygon(p.exterior) for p in shapely.get_parts(to_shape(Shadow(mesh).above(-np.inf)))]
        )
        low, high = self.stock_box[:, :2]
        x, y = np.meshgrid(*np.linspace(low, high, OUTSIDE_PLACES).T)
        return float(shapely.distance(outline, shapely.points(x.ravel(), y.ravel())).max())

    def stepdown(self, tool: Tool) -> float:
        return round(min(self.recipe.stepdown_percent / 100 * tool.cutter.diameter_mm, tool.cutter.flute_length_mm), 2)

    # Pockets

    def pockets(self) -> None:
        for pocket in self.found.pockets:
            if pocket.accessible is False or pocket.kind == "open pocket" or pocket.islands or pocket.draft_deg:
                continue  # what of it can be seen gets rows by its places
            self._pocket(pocket)

    def _pocket(self, pocket: Pocket) -> None:
        depth = pocket.depth_mm
        tightest = min([r for r in pocket.corner_radii_mm if r > 0] or [np.inf])
        mills = self.box.mills(self.recipe.largest_mill_mm, depth)
        roughing = [t for t in mills if t.cutter.diameter_mm <= self.recipe.fit_percent / 100 * pocket.width_mm]
        finishing = [
            t
            for t in mills
            if t.cutter.diameter_mm / 2 <= tightest * CORNER_SHARE and t.cutter.diameter_mm < pocket.width_mm - 1e-3
        ]
        finish = next((t for t in finishing if self.touches(t, [*pocket.floor, *pocket.walls])), None)
        if finish is None:
            if not finishing:
                narrow = min(2 * tightest, pocket.width_mm)
                self.skip(pocket, f"no mill below ⌀{narrow:.2f} reaches {depth:.1f} mm deep")
            return  # what of it some mill reaches gets rows by its places
        rough = next((t for t in roughing if self.touches(t, pocket.floor)), finish)
        faces = pocket.floor or pocket.walls
        allowance = self.recipe.wall_allowance_mm
        self._clear(rough, faces, allowance, ROUGH, f"largest mill within {self.recipe.fit_percent:g} % of the width")
        if finish.cutter.diameter_mm < rough.cutter.diameter_mm:
            rule = f"corners of R {tightest:g} need a mill of at most ⌀{2 * tightest:g}"
            self._clear(finish, faces, allowance, REST, rule)
        self._walls(pocket, finish, faces, min(2 * tightest * CORNER_SHARE, pocket.width_mm - 1e-3))

    def _walls(self, pocket: Pocket, finish: Tool, faces: list[int], widest: float) -> None:
        """Finish the walls, and with them the fillet round the floor where there is one."""
        flutes = finish.cutter.flute_length_mm
        step = None if pocket.depth_mm <= flutes else round(FLUTES_USED * flutes, 2)
        params: dict[str, Any] = {"strategy": "contour", "lead": "arc", "top_from": "stock here", "stepdown_mm": step}
        fillet = pocket.floor_radius_mm
        if fillet and pocket.floor:
            rounded = self.box.rounded(fillet, min(widest, self.recipe.largest_mill_mm), pocket.depth_mm)
            if rounded is not None:
                rule = f"the fillet R {fillet:g} round the floor needs a mill with that corner"
                self.draft(WALL, rounded, "Walls and fillets", params, faces, rule)
                return
            params["stepdown_mm"] = round(fillet / FILLET_STEPS, 3)
            self.skip(pocket, f"no mill with a corner of R {fillet:g}: a flat one leaves steps in its fillet")
        elif self.recipe.wall_allowance_mm <= 0:
            return
        if not pocket.floor:
            params |= {"bottom_mm": -self.recipe.break_through_mm}
        self.draft(WALL, finish, "Walls", params, faces, "walls are finished to size at their full depth")

    def _clear(self, tool: Tool, faces: list[int], allowance: float, rank: int, rule: str) -> None:
        params = {
            "strategy": "pocket clearing",
            "stepover_mm": round(self.recipe.stepover_percent / 100 * tool.cutter.diameter_mm, 3),
            "stepdown_mm": self.stepdown(tool),
            "allowance_mm": allowance,
            "break_through_mm": self.recipe.break_through_mm,
        }
        name = "Rough pockets" if rank == ROUGH else "Rest in corners"
        self.draft(rank, tool, name, params, faces, rule)

    # Holes

    def holes(self) -> None:
        for hole in self.found.holes:
            way: HoleWay = next((self.ways[f] for f in hole.faces if f in self.ways), "automatic")
            if hole.accessible is False:
                self.skip(hole, hole.why or "it cannot be reached from here")
            elif way != "leave":
                self._hole(hole, way)

    def _hole(self, hole: Hole, way: HoleWay) -> None:
        """The bores of a hole from this side: the narrowest, those above it, and (bored back) the one below it."""
        if not _has_bore(hole):
            return  # what of it can be seen gets rows by its places
        here = from_side(hole, self.up)
        bores = bores_of(here)
        core = min(bores, key=lambda s: s.diameter_mm)
        narrowest = bores.index(core)
        far = far_bores(here)
        bar = self._bar_for(here, core, far, way)
        if not self.made & set(core.faces):
            below = sum(s.depth_mm for s in here.steps[here.steps.index(core) + 1 :])
            through = below + self.stock_under if bar is not None else 0.0
            drawn = sum(s.depth_mm for s in here.steps[: here.steps.index(core) + 1])
            if not self._core(here, core, drawn + through, "automatic" if way == "back boring" else way, through):
                return
            self._spot(here, core, way)
        for step in bores[:narrowest]:
            if step.diameter_mm <= core.diameter_mm + OVER_MM or self.made & set(step.faces):
                continue
            depth = sum(s.depth_mm for s in here.steps[: here.steps.index(step) + 1])
            if not self._mill_bore(here, step.diameter_mm, depth, step.faces, "counterbores are milled"):
                self.skip(hole, f"no mill for its counterbore ⌀{step.diameter_mm:g}")
        if bar is not None:
            rule = "counterbores on the far side are bored back"
            self.draft(AFTER, bar, "Bore back", {"strategy": "back boring"}, far[0].faces, rule)
        elif far and way != "back boring" and not all(self.made & set(s.faces) for s in far):
            self.skip(hole, f"its counterbore ⌀{far[-1].diameter_mm:g} opens on the other side")

    def _bar_for(self, hole: Hole, core: HoleStep, far: list[HoleStep], way: HoleWay) -> Tool | None:
        """The bar for a counterbore on the far side, where one is wanted; told where there is none."""
        if way != "back boring" or (far and self.made & set(far[0].faces)):
            return None
        if len(far) != 1:
            self.skip(hole, f"it has {len(far)} counterbores on its far side; a bar makes one" if far else NO_FAR)
            return None
        deep = sum(s.depth_mm for s in hole.steps)
        bar = self.box.back_boring_bar(far[0].diameter_mm, core.diameter_mm, deep)
        if bar is None:
            what = f"⌀{far[0].diameter_mm:g} goes through ⌀{core.diameter_mm:g} and reaches {deep:.1f} mm deep"
            self.skip(hole, f"no back boring bar of {what}")
        return bar

    def _spot(self, hole: Hole, core: HoleStep, way: HoleWay) -> None:
        """Spot a drilled hole, with its chamfer where the spot drill has its angle."""
        spot = self.box.spot()
        small = core.diameter_mm <= self.recipe.spot_up_to_mm
        wanted = self.recipe.spot_holes and small and way != "bore milling" and self._is_drilled(core)
        if wanted and spot is not None and self.is_free(spot, hole, core.diameter_mm / 2, cutter=True):
            mouth = mouth_for(hole, spot)
            self.mouths |= set(mouth)
            name = "Spot with chamfer" if mouth else "Spot"
            self.draft(
                SPOT, spot, name, {"strategy": "drilling", "cycle": "spot"}, core.faces, "drilled holes are spotted"
            )

    def _is_drilled(self, core: HoleStep) -> bool:
        return any(d.rank == DRILL and set(d.faces) & set(core.faces) for d in self.drafts)

    def _core(self, hole: Hole, core: HoleStep, depth: float, way: HoleWay, beyond: float) -> bool:
        """Drill, mill, ream or tap the narrowest bore; False (and told) where no tool does.

        Args:
            beyond: how much of the depth lies below the bore itself and is opened with it.
        """
        diameter = core.diameter_mm
        thread = [n for n in hole.threads if standard_threads()[n].series == "metric coarse"]
        tapped = way == "tap" or (way == "automatic" and self.recipe.threads == "tap")
        tap = self.box.tap(thread) if tapped else None
        reamer = self.box.reamer(diameter)
        ream = reamer is not None and (way == "ream" or (way == "automatic" and self.recipe.ream != "never"))
        milled = way == "bore milling" or (way == "automatic" and diameter > self.recipe.mill_over_mm)
        if ream and reamer is not None:
            rule = "reamed holes are drilled smaller"
            if not self._drill(hole, core, diameter - 0.2, depth, 0.6, rule, beyond):
                self.skip(hole, f"no drill a little below ⌀{diameter:g} for reaming")
                return False
            self.draft(
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
            self.recipe.drill_short_mm,
            f"drill of ⌀{diameter:g}, at most {self.recipe.drill_short_mm:g} mm smaller",
            beyond,
        )
        why = self._why_milled(diameter, milled)
        if not drilled and not self._mill_bore(hole, diameter, depth, core.faces, why, beyond=beyond):
            if self._mill_half(hole, core, depth - beyond):
                return True
            self.skip(hole, f"no drill of ⌀{diameter:g} reaches {depth:.1f} mm deep, and no mill goes in")
            return False
        if way == "automatic" and (tap is not None or (thread and self.recipe.threads == "mill")):
            self._assume(
                f"Bores of ⌀{diameter:g} are taken for {thread[0]} and threaded; if not, have them left plain."
            )
        if tap is not None:
            self._tap(hole, tap, core, depth - beyond)
        elif thread and (way == "thread milling" or (way == "automatic" and self.recipe.threads == "mill")):
            mill = self.box.thread_mill(standard_threads()[thread[0]].pitch_mm, diameter)
            if mill is None:
                self.skip(hole, f"no thread mill for {thread[0]}")
                return False
            self.draft(
                AFTER,
                mill,
                f"Thread {thread[0]}",
                {"strategy": "thread milling", "thread": thread[0]},
                core.faces,
                "threads are milled",
            )
        return True

    def _assume(self, words: str) -> None:
        if words not in self.assumed:
            self.assumed.append(words)

    def _tap(self, hole: Hole, tap: Tool, core: HoleStep, depth: float) -> None:
        """Tap a bore; no deeper than the tap cuts, and told where that is less than half a diameter."""
        cutter = tap.cutter
        assert isinstance(cutter, Tap)
        params: dict[str, Any] = {"strategy": "drilling", "cycle": "tap"}
        most = cutter.flute_length_mm - cutter.lead_mm - self.recipe.break_through_mm
        if depth > most and most < cutter.diameter_mm / 2:
            cuts = cutter.flute_length_mm - cutter.lead_mm
            self.skip(
                hole, f"tap T{tap.number} cuts full threads over {cuts:.1f} mm only; the bore is {depth:.1f} deep"
            )
            return
        if depth > most:
            params |= {"depth_mm": round(min(2 * cutter.diameter_mm, most), 2), "depth_from": "tip"}
        self.draft(AFTER, tap, f"Tap {cutter.thread}", params, core.faces, "bores of tap-drill size are tapped")

    def _why_milled(self, diameter: float, by_rule: bool) -> str:
        if by_rule:
            return f"holes over {self.recipe.mill_over_mm:g} mm are milled"
        return f"there is no drill of ⌀{diameter:g}"

    def _drill(
        self, hole: Hole, core: HoleStep, diameter: float, depth: float, short: float, rule: str, beyond: float
    ) -> bool:
        point = 0.35 * diameter + (self.recipe.break_through_mm if hole.through else 0.0)
        tool = self.box.drill(diameter, short, depth + point)
        if tool is None or not self.is_free(tool, hole, depth + point):
            return False
        deep = depth / tool.cutter.diameter_mm >= self.recipe.peck_over * self.pecking.begins
        params = {
            "strategy": "drilling",
            "cycle": "peck" if deep else "drill",
            "break_through_mm": self.recipe.break_through_mm + beyond,
        }
        if deep:
            params["peck_mm"] = round(self.pecking.first * tool.cutter.diameter_mm, 2)
        assert isinstance(tool.cutter, Drill)
        self.draft(DRILL, tool, f"Drill ⌀{tool.cutter.diameter_mm:g}", params, core.faces, rule)
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
        mills = [t for t in self._bore_mills(diameter, depth) if self.is_free(t, hole, depth)]
        if not mills or mills[0].cutter.diameter_mm < LEAST_MILL_MM:
            return False
        through = 0.0 if raised else self.recipe.break_through_mm + beyond
        params = {"strategy": "bore milling", "break_through_mm": through, "finish_mm": BORE_FINISH_MM}
        if raised:
            params["bottom_mm"] = raised
        self.draft(rank, mills[0], "Mill bores", params, faces, rule)
        return True

    def _bore_mills(self, diameter: float, depth: float) -> list[Tool]:
        """Mills that go down a bore so deep with room to go round."""
        mills = self.box.mills(self.recipe.largest_mill_mm, depth)
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
        if not self.begun & set(core.faces):
            self.skip(hole, f"no tool goes {depth:.1f} mm deep: the other half is to be milled from the far side")
        return True

    # Chamfers

    def chamfers(self) -> None:
        if not self.recipe.chamfers:
            return
        for chamfer in self.found.chamfers:
            if not all(self._looks_up(f) for f in chamfer.faces):
                self.skip(chamfer, "it does not look upwards here")
            elif all(lower_rim(self.solid, self.frame, f) for f in chamfer.faces):
                self._chamfer(chamfer)
            # What has no level foot gets rows by how it leans.

    def _looks_up(self, face: int) -> bool:
        own = self.places.normal[self.places.face == face, 2]
        return float(np.mean(own > LOOKS_UP)) >= NEARLY_ALL if len(own) else False

    def _chamfer(self, chamfer: Chamfer) -> None:
        tool = self.box.chamfer_mill(90.0 if abs(chamfer.angle_deg - 45) < 1 else 2 * (90 - chamfer.angle_deg))
        if tool is None:
            self.skip(chamfer, f"no chamfer mill for {chamfer.angle_deg:.0f}°")
            return
        params = {"strategy": "edge chamfer", "width_mm": round(max(chamfer.width_mm * 0.7071, 0.05), 3)}
        self.draft(CHAMFER, tool, "Chamfers", params, chamfer.faces, "chamfers of the model")

    # Together

    def draft(self, rank: float, tool: Tool, name: str, params: dict[str, Any], faces: list[int], rule: str) -> None:
        """Add to an operation of the same kind and tool, or begin one."""
        tool = self.box.take(tool)
        same = next((d for d in self.drafts if d.rank == rank and d.tool is tool and d.params == params), None)
        if same is None:
            self.drafts.append(Draft(rank, tool, name, params, list(dict.fromkeys(faces)), rule))
        else:
            same.faces = list(dict.fromkeys([*same.faces, *faces]))

    def ordered(self) -> list[Draft]:
        """By what must come first; inside a rank the largest tool first, rows of one tool together.

        Where the tools of a rank may come in any order, the one that is in the spindle goes first, and the one that
        the next rank begins with last: each pair of calls less is a tool change less.
        """
        drafts = sorted(self.drafts, key=lambda d: (d.rank, -d.tool.cutter.diameter_mm, d.tool.number))
        ranks = [list(own) for _, own in groupby(drafts, key=lambda d: d.rank)]
        found: list[Draft] = []
        for k, own in enumerate(ranks):
            held = found[-1].tool.number if found else None
            wanted = ranks[k + 1][0].tool.number if k + 1 < len(ranks) else None
            if own[0].rank in ANY_ORDER:
                own = sorted(own, key=lambda d: (d.tool.number != held, d.tool.number == wanted))
            found += own
        return found
