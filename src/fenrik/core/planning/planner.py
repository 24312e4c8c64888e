"""The operations of one side under way: which features get which, with which tool, and why."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import groupby
from typing import Any

import numpy as np
import shapely

from fenrik.core.cutting.data import PECKING, Pecking
from fenrik.core.frames import Frame, Points
from fenrik.core.planning.coverage import Uncovered, as_uncovered
from fenrik.core.planning.lying import LEVEL, STANDS, Mask
from fenrik.core.planning.reach import Reach
from fenrik.core.planning.tooling import Toolbox
from fenrik.core.recipe import HoleWay, Recipe
from fenrik.core.recognise import Recognition
from fenrik.core.recognise.features import Chamfer, Feature, Hole, Pocket, mouth_of
from fenrik.core.regions import Shadow
from fenrik.core.regions.polygons import to_shape
from fenrik.core.solids import Solid
from fenrik.core.solids.sampling import SurfacePlaces
from fenrik.core.targeting import lower_rim
from fenrik.core.tools import Tool
from fenrik.core.tools.cutters import SpotDrill

OVER_MM = 0.01
CORNER_SHARE = 0.999
NEARLY_ALL = 0.97
LOOKS_UP = 0.05
"""Cosine to the axis from which a chamfer is one that a cutter from above makes."""
FILLET_STEPS = 5
FINISH_MM, MOST_SIDE_PASSES, OUTSIDE_PLACES = 0.2, 3, 61
"""The outside is roughed by so many passes at most, which leave so much for the last one."""
FLUTES_USED = 0.8
"""Where a wall is higher than the flutes are long, each pass takes so much of their length."""
BROKEN_EDGES = ("chamfer", "countersink", "rounding", "taper")
"""Stretches of a hole that its bores do not make."""
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


def has_bore(hole: Hole) -> bool:
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
        holes = [h for h in [*self.found.holes, *self.all_holes] if has_bore(h)]
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
