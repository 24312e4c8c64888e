"""From what a document names to chains, areas and holes in the setup's frame."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import shapely

from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Frame, Points
from fenrik.core.recognise import Recognition
from fenrik.core.recognise.features import Hole, HoleStep, mouth_of
from fenrik.core.regions import Shadow, fit_arcs
from fenrik.core.regions.polygons import from_shape, signed_area
from fenrik.core.sketches import Curve, region_of
from fenrik.core.sketches.curve import join_curves
from fenrik.core.sketches.model import projected_edge
from fenrik.core.solids import Mesh, Solid, find_faces
from fenrik.core.solids.references import find_edge
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.targets import (
    Area,
    Chain,
    EdgesTarget,
    FacesTarget,
    FarSide,
    HolePlace,
    MaterialSide,
    OutlineTarget,
    SharpEdgesTarget,
    SketchTarget,
    Target,
    Targets,
    Wall,
)

LEVEL_MM = 1e-3
SIDE_MM = 0.02
"""How far beside a chain is looked for material."""
FLATTEN_MM = 1e-3
UPRIGHT = 1 - 1e-6
TOUCH_MM = 0.02
BELOW_MM = 0.02
SHARP_DEG = 60.0


@dataclass
class Targeting:
    """What is needed to find targets: the part in the setup's frame, its features, and sketches.

    Attributes:
        make_mesh: gives the part's triangles in the frame, finer than the operation's tolerance. make_shadow: theirs.
        features: gives the part's features.
        sketch: gives the curves of a sketch by item, in the setup's frame, and their height; raises when it leans.
        points: gives the single places of a sketch by item, likewise.
    """

    solid: Solid
    frame: Frame
    make_mesh: Callable[[], Mesh]
    make_shadow: Callable[[], Shadow]
    features: Callable[[], Recognition]
    sketch: Callable[[str], tuple[dict[str, list[Curve]], float]]
    points: Callable[[str], dict[str, Points]]

    @cached_property
    def mesh(self) -> Mesh:
        return self.make_mesh()

    @cached_property
    def shadow(self) -> Shadow:
        return self.make_shadow()

    def find(self, params: TargetParams, field: str) -> Targets:
        """The targets of an operation on the first part of its setup.

        Raises:
            FenrikError: naming the target whose faces, edges or sketch are lost.
        """
        found = []
        for k, target in enumerate(params.targets):
            where = f"{field}.params.targets.{k}"
            found.append(getattr(self, f"_{params.uses}")(target, where))
        return Targets.joined(found)

    # Holes

    def _holes(self, target: Target, field: str) -> Targets:
        if isinstance(target, SketchTarget):
            return self._sketched_holes(target)
        if not isinstance(target, FacesTarget):
            raise fail(field, "are not holes.", "Pick bores, or a sketch with points or circles.", target.kind)
        wanted = {i for j, f in enumerate(target.faces) for i in find_faces(self.solid, f, f"{field}.faces.{j}")}
        holes, seen = [], set()
        for hole in self.features().holes:
            mine = wanted & set(hole.faces)
            if not mine:
                continue
            seen |= mine
            along = float(np.array(hole.direction) @ self.frame.rotation[:, 2])
            if along > UPRIGHT or (hole.through and along < -UPRIGHT):
                holes.append(self._hole(hole, mine, flipped=along < 0))
        bosses = [self._boss(i) for i in sorted(wanted - seen) if self._is_boss(i)]
        wrong = [
            self._unusable(i, "is not a hole along the tool's axis.", "Pick bores that open upwards in this setup.")
            for i in sorted(wanted - seen)
            if self.solid.faces[i].kind in ("cylinder", "cone") and not self._is_boss(i)
        ]
        return Targets(holes=holes + bosses, unusable=wrong if not holes + bosses else [])

    def _is_boss(self, face: int) -> bool:
        f = self.solid.faces[face]
        return (
            f.kind == "cylinder"
            and not f.concave
            and abs(float(np.array(f.normal) @ self.frame.rotation[:, 2])) > UPRIGHT
        )

    def _boss(self, face: int) -> HolePlace:
        """A round boss, for threads outside it."""
        f = self.solid.faces[face]
        x, y, _ = self.frame.to_local(np.array(f.origin)).tolist()
        z = self.mesh.of_faces([face]).bounds()[:, 2]
        low, high = float(z[0]), float(z[1])
        return HolePlace(x, y, high, low, low, 2 * float(f.radius_mm or 0), False, f"face {face + 1}")

    def _hole(self, hole: Hole, picked: set[int], flipped: bool) -> HolePlace:
        """A hole, or the step of it that was picked, in the frame."""
        opening = self.frame.to_local(np.array(hole.place))
        steps = list(hole.steps)
        top = float(opening[2])
        total = sum(s.depth_mm for s in steps if s.kind not in ("flat bottom",))
        if flipped:
            top += max(total, hole.tip_depth_mm)
            steps = steps[::-1]
        bores = [s for s in steps if s.kind in ("bore", "counterbore")]
        mine = [s for s in bores if picked & set(s.faces)] or bores
        step = min(mine, key=lambda s: s.diameter_mm) if mine else steps[0]
        bottom = top - sum(s.depth_mm for s in steps[: steps.index(step) + 1] if s.kind != "flat bottom")
        last = step is min(bores, key=lambda s: s.diameter_mm) if bores else True
        tip = top - hole.tip_depth_mm if last and not hole.through else bottom
        mouth = mouth_of(steps)
        return HolePlace(
            float(opening[0]),
            float(opening[1]),
            top,
            bottom,
            min(tip, bottom),
            step.diameter_mm,
            hole.through and last,
            hole.name,
            mouth.diameter_mm if mouth else 0.0,
            (mouth.angle_deg or 0.0) if mouth else 0.0,
            tuple(hole.threads) if last else (),
            _far_side(steps, top) if hole.through else None,
            min((s.diameter_mm for s in bores if steps.index(s) < steps.index(step)), default=math.inf),
        )

    def _sketched_holes(self, target: SketchTarget) -> Targets:
        curves, level = self.sketch(target.sketch)
        bottom = float(self.mesh.bounds()[0][2])
        holes = []
        for item, places in self.points(target.sketch).items():
            if not target.items or item in target.items:
                holes += [HolePlace(x, y, level, bottom, bottom, 1e3, False, item) for x, y in places.tolist()]
        for item, own in curves.items():
            if target.items and item not in target.items:
                continue
            for curve in own:
                circle = _as_circle(curve)
                if circle is not None:
                    (x, y), radius = circle
                    holes.append(HolePlace(x, y, level, bottom, bottom, 2 * radius, False, item))
        return Targets(holes=holes)

    # Chains

    def _chains(self, target: Target, field: str) -> Targets:
        if isinstance(target, SketchTarget):
            curves, level = self.sketch(target.sketch)
            wanted = [c for i, own in curves.items() if not target.items or i in target.items for c in own]
            return Targets(chains=[Chain(c, level, target.sketch) for c in join_curves(wanted)])
        if isinstance(target, OutlineTarget):
            low = float(self.mesh.bounds()[0][2])
            rings = [r for r in self.shadow.above(low) if signed_area(r) > 0]
            return Targets(chains=[Chain(fit_arcs(r, True, 2 * FLATTEN_MM), low, "outline", "left") for r in rings])
        if isinstance(target, EdgesTarget):
            edges = [find_edge(self.solid, e, f"{field}.edges.{j}") for j, e in enumerate(target.edges)]
            return Targets(chains=self._rounded_chains(edges, "edges"))
        faces = [i for j, f in enumerate(target.faces) for i in find_faces(self.solid, f, f"{field}.faces.{j}")]
        if isinstance(target, SharpEdgesTarget):
            return Targets(chains=self._chains_of(self._sharp(faces, field), "sharp edges"))
        flat = [i for i in faces if self._looks_up(i)]
        edges = [e for i in flat for loop in self.solid.faces[i].loops for e in loop]
        return Targets(
            chains=self._rounded_chains(self._with_walls(edges), "floor")
            + self._rims([i for i in faces if i not in flat])
        )

    def _rounded_chains(self, edges: list[int], label: str) -> list[Chain]:
        """Edges joined into chains; those of floors from which fillets rise by the radius of these."""
        smooth = {e for e in edges if self.solid.edges[e].turn == "smooth"}
        if not smooth:
            return self._chains_of(edges, label)
        radius = {f: b.radius_mm for b in self.features().blends if b.concave for f in b.faces}
        groups: dict[float, list[int]] = {}
        for e in edges:
            beside = self.solid.edges[e].faces if e in smooth else ()
            rounded = [radius[f] for f in beside if f in radius and self._rises(f, e)]
            groups.setdefault(round(min(rounded, default=0.0), 4), []).append(e)
        return [replace(c, fillet_mm=r) for r, own in groups.items() for c in self._chains_of(own, label)]

    def _sharp(self, faces: list[int], field: str) -> list[int]:
        """The level edges, of some faces or of all, from which the part falls away to both sides and over which nothing
        stands. Chamfers and fillets have none: their faces meet at less than `SHARP_DEG`."""
        if not self.solid.edges:
            raise fail(
                field, "are not known of so fine a mesh.", "Use an exact model, or pick the outline.", "sharp edges"
            )
        near = {e for i in faces for loop in self.solid.faces[i].loops for e in loop}
        found = []
        for number, edge in enumerate(self.solid.edges):
            if edge.turn != "convex" or edge.angle_deg < SHARP_DEG or (faces and number not in near):
                continue
            low, high = self._heights(number)
            into = np.array(edge.into) @ self.frame.rotation
            if np.any(into[:, 2] > LEVEL_MM) or high - low > LEVEL_MM:
                continue
            on_top = self.frame.to_local(np.array(edge.middle)) + SIDE_MM * into[int(into[:, 2].argmax())]
            if not self.shadow.covers(high + BELOW_MM, on_top[None, :2])[0]:
                found.append(number)
        return found

    def _rises(self, face: int, edge: int) -> bool:
        """Whether a face goes up from a level edge."""
        low, high = self._heights(edge)
        z = self.mesh.of_faces([face]).bounds()[:, 2]
        return high - low < LEVEL_MM and float(z[1]) > high + LEVEL_MM and float(z[0]) > low - LEVEL_MM

    def _with_walls(self, edges: list[int]) -> list[int]:
        """Those edges of floors on which a wall stands; the others are open sides, or the rims of deeper places."""
        kept = []
        for e in edges:
            curve = projected_edge(self.solid.edges[e], self.frame)
            if curve.length_mm() > 1e-6 and _material_side(curve, self.shadow, self._heights(e)[0]):
                kept.append(e)
        return kept

    def _looks_up(self, face: int) -> bool:
        f = self.solid.faces[face]
        return f.kind == "plane" and float(np.array(f.normal) @ self.frame.rotation[:, 2]) > UPRIGHT

    def _rims(self, faces: list[int]) -> list[Chain]:
        """The lower rims of walls."""
        edges: list[int] = []
        for i in faces:
            edges += lower_rim(self.solid, self.frame, i)
        return [replace(c, rim=True) for c in self._chains_of(list(dict.fromkeys(edges)), "wall")]

    def _heights(self, edge: int) -> tuple[float, float]:
        return _heights_of(self.solid, self.frame, edge)

    def _chains_of(self, edges: list[int], label: str) -> list[Chain]:
        """Edges joined into chains, by level; each knows on which side material stands above it."""
        levels: dict[float, list[Curve]] = {}
        for e in dict.fromkeys(edges):
            low, _ = self._heights(e)
            key = next((z for z in levels if abs(z - low) < LEVEL_MM), low)
            levels.setdefault(key, []).append(projected_edge(self.solid.edges[e], self.frame))
        chains = []
        for level, curves in levels.items():
            for curve in join_curves([c for c in curves if c.length_mm() > 1e-6], 10 * LEVEL_MM):
                chains.append(
                    Chain(
                        curve,
                        level,
                        label,
                        _material_side(curve, self.shadow, level),
                        _material_side(curve, self.shadow, level - BELOW_MM),
                    )
                )
        return chains

    # Walls

    def _walls(self, target: Target, field: str) -> Targets:
        if not isinstance(target, FacesTarget):
            raise fail(field, "has no walls.", "Pick faces that stand upright or lean.", target.kind)
        faces = [i for j, f in enumerate(target.faces) for i in find_faces(self.solid, f, f"{field}.faces.{j}")]
        standing = [i for i in dict.fromkeys(faces) if not self._looks_up(i)]
        flat = [
            self._unusable(i, "lies level; it has no wall.", "Clear it as a floor.") for i in faces if self._looks_up(i)
        ]
        if not standing:
            return Targets(unusable=flat)
        return Targets(walls=[Wall(self.mesh.of_faces(standing).corners(), _floor_name(standing))], unusable=flat)

    # Areas

    def _areas(self, target: Target, field: str) -> Targets:
        if isinstance(target, SketchTarget):
            curves, level = self.sketch(target.sketch)
            wanted = [c for i, own in curves.items() if not target.items or i in target.items for c in own]
            rings = from_shape(region_of(join_curves(wanted), FLATTEN_MM))
            return Targets(areas=[Area(rings, level, target.sketch, fenced=True)])
        if isinstance(target, OutlineTarget | SharpEdgesTarget):
            raise fail(field, "is not an area with a floor.", "Pick floors, walls or closed curves.", target.kind)
        if isinstance(target, EdgesTarget):
            chains = self._chains(target, field).chains
            closed = [c for c in chains if c.curve.closed]
            opened = [
                Unreached(
                    reason="An open chain bounds no area.",
                    place=c.place,
                    level_mm=c.level,
                    advice="Pick the missing edges, so that the chain closes.",
                )
                for c in chains
                if not c.curve.closed
            ]
            areas = [Area(from_shape(region_of([c.curve], FLATTEN_MM)), c.level, "chain", fenced=True) for c in closed]
            return Targets(areas=areas, unusable=opened)
        faces = [i for j, f in enumerate(target.faces) for i in find_faces(self.solid, f, f"{field}.faces.{j}")]
        floors = [i for i in faces if self._looks_up(i)]
        areas = self._floors(floors)
        walls = [i for i in faces if i not in floors]
        if walls:
            areas += self._through(walls)
        return Targets(areas=areas)

    def _floors(self, faces: list[int]) -> list[Area]:
        """Floors that touch at one level are one area."""
        areas = []
        levels: dict[float, list[int]] = {}
        for i in faces:
            z = float(self.frame.to_local(np.array(self.solid.faces[i].centroid))[2])
            key = next((k for k in levels if abs(k - z) < LEVEL_MM), z)
            levels.setdefault(key, []).append(i)
        for level, own in sorted(levels.items(), reverse=True):
            for group in self._touching(own):
                rings = Shadow(self.mesh.of_faces(group)).above(level - 1.0)
                if rings:
                    areas.append(Area(rings, level, _floor_name(group)))
        return areas

    def _touching(self, faces: list[int]) -> list[list[int]]:
        left, groups = set(faces), []
        while left:
            group, waiting = [], [min(left)]
            left.discard(waiting[0])
            while waiting:
                i = waiting.pop()
                group.append(i)
                near = left & set(self.solid.faces[i].neighbours)
                left -= near
                waiting += sorted(near)
            groups.append(sorted(group))
        return groups

    def _through(self, walls: list[int]) -> list[Area]:
        """Openings without a floor: the gaps in the part's shadow that walls stand round."""
        areas: list[Area] = []
        for group in self._touching(walls):
            mesh = self.mesh.of_faces(group)
            level = float(mesh.vertices[np.unique(mesh.triangles), 2].min())
            gaps = [r[::-1] for r in self.shadow.above(level) if signed_area(r) < 0]
            points = shapely.points(mesh.vertices[np.unique(mesh.triangles)][:, :2])
            for gap in gaps:
                if any(np.array_equal(gap, a.rings[0]) for a in areas):
                    continue
                if float(np.min(shapely.distance(shapely.LinearRing(gap), points))) < TOUCH_MM:
                    areas.append(Area([gap], level, _floor_name(group), through=True))
        return areas

    def _unusable(self, face: int, reason: str, advice: str) -> Unreached:
        x, y, z = self.frame.to_local(np.array(self.solid.faces[face].centroid)).tolist()
        return Unreached(reason=f"Face {face + 1} {reason}", place=(x, y, z), level_mm=z, advice=advice)


def _floor_name(faces: list[int]) -> str:
    return f"face {faces[0] + 1}" if len(faces) == 1 else f"faces {faces[0] + 1} and {len(faces) - 1} more"


def _far_side(steps: list[HoleStep], top: float) -> FarSide:
    """The far end of a through hole, from its steps downwards."""
    above = [s for s in steps if s.kind != "flat bottom"]
    end = top - sum(s.depth_mm for s in above)
    bores = [k for k, s in enumerate(above) if s.kind in ("bore", "counterbore")]
    last = above[bores[-1]] if bores else above[-1]
    neck = min((above[k].diameter_mm for k in bores), default=last.lower_diameter_mm)
    if last.diameter_mm <= neck + LEVEL_MM:
        return FarSide(end, neck, neck, end)
    floor = top - sum(s.depth_mm for s in above[: bores[-1]])
    return FarSide(end, neck, last.diameter_mm, floor)


def _as_circle(curve: Curve) -> tuple[tuple[float, float], float] | None:
    """Centre and radius of a closed curve that is a circle."""
    if not curve.closed:
        return None
    places = curve.flattened(FLATTEN_MM)[:-1]
    middle = (places.min(axis=0) + places.max(axis=0)) / 2
    away = np.linalg.norm(places - middle, axis=1)
    return ((float(middle[0]), float(middle[1])), float(away.mean())) if np.ptp(away) < 1e-3 and len(away) > 6 else None


def _material_side(curve: Curve, shadow: Shadow, level: float) -> MaterialSide:
    """On which side of a curve the part stands above a level: looked at beside the middle of its stretches."""
    places = curve.flattened(SIDE_MM / 4)
    middle, along = (places[1:] + places[:-1]) / 2, np.diff(places, axis=0)
    length = np.linalg.norm(along, axis=1)
    keep = length > 1e-6
    left = np.column_stack([-along[keep][:, 1], along[keep][:, 0]]) / length[keep][:, None] * SIDE_MM
    weight = length[keep]
    on_left = float(weight @ shadow.covers(level, middle[keep] + left)) / float(weight.sum())
    on_right = float(weight @ shadow.covers(level, middle[keep] - left)) / float(weight.sum())
    if abs(on_left - on_right) < 0.5:
        return ""
    return "left" if on_left > on_right else "right"


def lower_rim(solid: Solid, frame: Frame, face: int) -> list[int]:
    """The edges of a face that lie level at its foot; none where it ends in a slope or a curve."""
    own = {e for loop in solid.faces[face].loops for e in loop}
    heights = {e: _heights_of(solid, frame, e) for e in own}
    lowest = min((low for low, _ in heights.values()), default=0.0)
    return [e for e, (_, high) in heights.items() if high - lowest < LEVEL_MM]


def _heights_of(solid: Solid, frame: Frame, edge: int) -> tuple[float, float]:
    z = frame.to_local(solid.edges[edge].points)[:, 2]
    return float(z.min()), float(z.max())
