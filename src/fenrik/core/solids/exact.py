"""The exact surfaces under the faces of a part, as arrays that kernels can ask: where is the nearest point?

Planes, cylinders, cones, spheres and tori are kept as such. B-spline and Bézier surfaces keep their poles; surfaces of
revolution and extrusion become rational B-splines, which they are exactly. Offset surfaces and others become B-splines
within `FITTED_MM`, which then is part of the bound.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Frame, Points
from fenrik.core.solids import _surface_kernels as kernels
from fenrik.core.solids._surface_kernels import CONE, CYLINDER, PLANE, SPHERE, SPLINE, TORUS, UNKNOWN

FITTED_MM = 1e-4
Tables = tuple[np.ndarray, ...]


@dataclass(frozen=True)
class ExactFaces:
    """Surfaces of n faces, in the order of a solid's faces.

    Attributes:
        kinds: (n,) of what kind, see `_surface_kernels`.
        bases, axes: (n, 3) origin and (n, 3, 3) rows x, y, z of its axes.
        sizes: (n, 2) radii; of a cone the radius at its origin and half its angle in rad.
        senses: (n,) 1 where the surface's own normal looks out of the material, −1 where in.
        grids: (n, 8) of a B-spline: first pole, first knots in u and v, degrees, numbers of poles, where closed
            (1: in u, 2: in v).
        poles: (k, 4) wx, wy, wz, w. knots: (j,).
        fitted: (n,) whether the surface is only fitted within `FITTED_MM`.
    """

    kinds: NDArray[np.int8]
    bases: Points
    axes: Points
    sizes: Points
    senses: Points
    grids: NDArray[np.int64]
    poles: Points
    knots: Points
    fitted: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.kinds)

    @property
    def tables(self) -> Tables:
        return self.kinds, self.bases, self.axes, self.sizes, self.senses, self.grids, self.poles, self.knots

    def feet(
        self, faces: NDArray[Any], points: Points, starts: NDArray[Any] | None = None
    ) -> tuple[Points, Points, Points, NDArray[np.bool_]]:
        """Feet of perpendiculars from points on the whole surfaces under faces.

        Args:
            faces: (n,) number of each point's face. points: (n, 3).
            starts: (n, 2) parameters to begin with on B-splines; where none are given, a lattice is tried.

        Returns:
            Feet (n, 3), outward normals (n, 3), parameters of the feet on B-splines (n, 2), whether a foot is known.
        """
        n = len(points)
        uv = np.zeros((n, 2)) if starts is None else np.array(starts, dtype=np.float64)
        places, normals, known = np.empty((n, 3)), np.empty((n, 3)), np.zeros(n, bool)
        points = np.ascontiguousarray(points, dtype=np.float64)
        asked = np.ascontiguousarray(faces, dtype=np.int64)
        kernels.feet(*self.tables, asked, points, uv, starts is None, places, normals, known)
        return places, normals, uv, known

    def stands_off(self, face: int, points: Points, parameters: Points) -> tuple[Points, Points, Points]:
        """How far points near a face stand off its surface: on a B-spline over parameters, else by feet.

        Returns:
            Distances (n,), places on the surface (n, 3), their parameters (n, 2).
        """
        points = np.ascontiguousarray(points)
        if self.kinds[face] == UNKNOWN:
            return np.zeros(len(points)), points, parameters
        if self.kinds[face] != SPLINE:
            places, _, uv, _ = self.feet(np.full(len(points), face), points, parameters)
            return np.linalg.norm(places - points, axis=1), places, uv
        places, off = np.empty_like(points), np.empty(len(points))
        kernels.over_parameters(self.grids[face], self.poles, self.knots, parameters, points, places, off)
        return off, places, parameters

    def peak(self, face: int, axis: int, sense: int, start: Points, given: float, within_mm: float) -> float:
        """The highest (sense 1) or lowest (−1) coordinate of a B-spline face near a start (2,) of its parameters.

        Args:
            given: the coordinate at the start. within_mm: how far from that it may be; else the start's is given.
        """
        found = kernels.climb(self.grids[face], self.poles, self.knots, axis, sense, np.asarray(start, float))
        return float(found) if 0.0 <= sense * (found - given) <= within_mm else given

    def moved(self, turn: Points, shift: Points) -> ExactFaces:
        """The surfaces turned (or mirrored) by a matrix (3, 3) and then shifted."""
        xyz = self.poles[:, :3] @ turn.T + self.poles[:, 3:] * shift
        mirrored = np.where((self.kinds == SPLINE) & (np.linalg.det(turn) < 0), -1.0, 1.0)
        return replace(
            self,
            bases=self.bases @ turn.T + shift,
            axes=self.axes @ turn.T,
            senses=self.senses * mirrored,
            poles=np.ascontiguousarray(np.column_stack([xyz, self.poles[:, 3]])),
        )

    def in_frame(self, frame: Frame) -> ExactFaces:
        """The surfaces in the coordinates of a frame."""
        return self.moved(frame.rotation.T, -frame.rotation.T @ frame.origin)

    @staticmethod
    def joined(parts: list[ExactFaces]) -> ExactFaces:
        """Several sets one after another."""
        if len(parts) == 1:
            return parts[0]
        poles = np.cumsum([0, *(len(p.poles) for p in parts)])
        knots = np.cumsum([0, *(len(p.knots) for p in parts)])
        grids = [
            p.grids + np.array([a, b, b, 0, 0, 0, 0, 0]) for p, a, b in zip(parts, poles[:-1], knots[:-1], strict=True)
        ]
        names = ("kinds", "bases", "axes", "sizes", "senses", "poles", "knots", "fitted")
        return ExactFaces(
            grids=np.concatenate(grids), **{k: np.concatenate([getattr(p, k) for p in parts]) for k in names}
        )


@dataclass
class _Surface:
    kind: int = UNKNOWN
    base: tuple[float, float, float] = (0.0, 0.0, 0.0)
    axes: Any = None
    sizes: tuple[float, float] = (0.0, 0.0)
    spline: Any = None
    source: Any = None
    own: bool = True
    fitted: bool = False


def exact_faces(shapes: list[Any]) -> tuple[ExactFaces, NDArray[np.bool_]]:
    """The surfaces under Open CASCADE faces; their senses are those of the surfaces, see `turned_out`.

    Returns:
        The surfaces, and for each whether its parameters are those of Open CASCADE's face.
    """
    found = [_surface(face) for face in shapes]
    made: dict[int, NDArray[np.int64]] = {}  # faces that lie on one surface share its poles
    n = len(found)
    grids, poles, knots = np.zeros((n, 8), np.int64), [np.zeros((0, 4))], [np.zeros(0)]
    at_pole = at_knot = 0
    for k, one in enumerate(found):
        if one.spline is None:
            continue
        if one.own and id(one.source) in made:
            grids[k] = made[id(one.source)]
            continue
        own_poles, u, v, degrees, counts, closed = _spline_tables(one.spline)
        grids[k] = (at_pole, at_knot, at_knot + len(u), *degrees, *counts, closed)
        made[id(one.source)] = grids[k]
        poles.append(own_poles)
        knots += [u, v]
        at_pole, at_knot = at_pole + len(own_poles), at_knot + len(u) + len(v)
    faces = ExactFaces(
        np.array([s.kind for s in found], np.int8),
        np.array([s.base for s in found], float).reshape(n, 3),
        np.array([np.eye(3) if s.axes is None else s.axes for s in found], float).reshape(n, 3, 3),
        np.array([s.sizes for s in found], float).reshape(n, 2),
        np.ones(n),
        grids,
        np.concatenate(poles),
        np.concatenate(knots),
        np.array([s.fitted for s in found], bool),
    )
    return faces, np.array([s.own for s in found], bool)


def _surface(face: Any) -> _Surface:
    from OCP.BRepAdaptor import BRepAdaptor_Surface
    from OCP.GeomAbs import GeomAbs_SurfaceType as Kind

    adaptor = BRepAdaptor_Surface(face, False)
    kind = adaptor.GetType()
    if kind == Kind.GeomAbs_Plane:
        return _placed(PLANE, adaptor.Plane().Position())
    if kind == Kind.GeomAbs_Cylinder:
        return _placed(CYLINDER, adaptor.Cylinder().Position(), adaptor.Cylinder().Radius())
    if kind == Kind.GeomAbs_Cone:
        cone = adaptor.Cone()
        return _placed(CONE, cone.Position(), cone.RefRadius(), cone.SemiAngle())
    if kind == Kind.GeomAbs_Sphere:
        return _placed(SPHERE, adaptor.Sphere().Position(), adaptor.Sphere().Radius())
    if kind == Kind.GeomAbs_Torus:
        torus = adaptor.Torus()
        return _placed(TORUS, torus.Position(), torus.MajorRadius(), torus.MinorRadius())
    return _as_spline(face, BRepAdaptor_Surface(face, True), kind)


def _placed(kind: int, position: Any, *sizes: float) -> _Surface:
    axes = [d.Coord() for d in (position.XDirection(), position.YDirection(), position.Direction())]
    size = (*sizes, 0.0, 0.0)
    return _Surface(kind, position.Location().Coord(), axes, (size[0], size[1]))


def _as_spline(face: Any, adaptor: Any, kind: Any) -> _Surface:
    """A face's surface as a B-spline; unknown where Open CASCADE cannot make one."""
    from OCP.BRep import BRep_Tool
    from OCP.Geom import Geom_RectangularTrimmedSurface
    from OCP.GeomAbs import GeomAbs_C1
    from OCP.GeomAbs import GeomAbs_SurfaceType as Kind
    from OCP.GeomConvert import GeomConvert, GeomConvert_ApproxSurface

    source = surface = BRep_Tool.Surface_s(face)
    own = kind in (Kind.GeomAbs_BSplineSurface, Kind.GeomAbs_BezierSurface)
    exact = own or kind in (Kind.GeomAbs_SurfaceOfRevolution, Kind.GeomAbs_SurfaceOfExtrusion)
    try:
        if not own:
            ends = (
                adaptor.FirstUParameter(),
                adaptor.LastUParameter(),
                adaptor.FirstVParameter(),
                adaptor.LastVParameter(),
            )
            surface = Geom_RectangularTrimmedSurface(surface, *ends, True, True)
        if exact:
            spline = GeomConvert.SurfaceToBSplineSurface_s(surface)
        else:
            fit = GeomConvert_ApproxSurface(surface, FITTED_MM, GeomAbs_C1, GeomAbs_C1, 8, 8, 200, 0)
            if not fit.HasResult() or fit.MaxError() > FITTED_MM:
                return _Surface()
            spline = fit.Surface()
    except Exception:  # Open CASCADE raises whatever its converters raise; such a face keeps its triangles' bound
        return _Surface()
    if spline.IsUPeriodic():
        spline.SetUNotPeriodic()
    if spline.IsVPeriodic():
        spline.SetVNotPeriodic()
    return _Surface(SPLINE, spline=spline, source=source, own=own, fitted=not exact)


def _spline_tables(spline: Any) -> tuple[Points, Points, Points, tuple[int, int], tuple[int, int], int]:
    """Poles (nu · nv, 4), flat knots in u and v, degrees, numbers of poles, where it is closed."""
    nu, nv = spline.NbUPoles(), spline.NbVPoles()
    at = [(i, j) for i in range(1, nu + 1) for j in range(1, nv + 1)]
    pole, weight = spline.Pole, spline.Weight
    poles = np.ones((nu * nv, 4))
    poles[:, :3] = [pole(i, j).Coord() for i, j in at]
    if spline.IsURational() or spline.IsVRational():
        poles[:, 3] = [weight(i, j) for i, j in at]
        poles[:, :3] *= poles[:, 3:]
    u = np.repeat(
        [spline.UKnot(k) for k in range(1, spline.NbUKnots() + 1)],
        [spline.UMultiplicity(k) for k in range(1, spline.NbUKnots() + 1)],
    )
    v = np.repeat(
        [spline.VKnot(k) for k in range(1, spline.NbVKnots() + 1)],
        [spline.VMultiplicity(k) for k in range(1, spline.NbVKnots() + 1)],
    )
    closed = (1 if spline.IsUClosed() else 0) + (2 if spline.IsVClosed() else 0)
    return poles, u, v, (spline.UDegree(), spline.VDegree()), (nu, nv), closed


def turned_out(faces: ExactFaces, numbers: NDArray[Any], places: Points, outward: Points, starts: Points) -> ExactFaces:
    """The surfaces with the senses that outward directions near them say.

    Args:
        numbers: (m,) face of each place. places, outward: (m, 3), weighted by length. starts: (m, 2) parameters.
    """
    _, normals, _, _ = faces.feet(numbers, places, starts)
    lean = np.zeros(len(faces))
    np.add.at(lean, numbers, np.nan_to_num(np.einsum("ij,ij->i", normals, outward)))
    return replace(faces, senses=np.where(lean < 0, -faces.senses, faces.senses))
