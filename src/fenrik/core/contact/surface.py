"""A surface that tools touch: its triangles find the place, its exact faces give the height."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.contact import _settle_kernels as kernels
from fenrik.core.contact.distance import neighbours_of
from fenrik.core.contact.drop import DropIndex, tip_heights
from fenrik.core.frames import Points
from fenrik.core.solids.exact import ExactFaces
from fenrik.core.solids.model import Mesh
from fenrik.core.tools.profile import Profile


@dataclass(frozen=True)
class Surface:
    """A mesh made ready for one profile, with the exact faces behind it.

    Attributes:
        index: of the mesh. mesh: the part, and what else the tool must not touch (its face numbers below 0).
        faces: by the mesh's face numbers; None for what only has triangles.
        corners: (m, 3, 3) of the triangles. neighbours: (m, 3) the triangle across each side.
    """

    index: DropIndex
    mesh: Mesh
    faces: ExactFaces | None
    corners: Points
    neighbours: NDArray[np.int32]

    @classmethod
    def build(cls, mesh: Mesh, faces: ExactFaces | None, profile: Profile, allowance_mm: float = 0.0) -> Surface:
        """A mesh in the frame whose z is the tool axis, for a profile grown on all sides by an allowance.

        Raises:
            FenrikError: for a body whose lower side is no single convex chain.
        """
        if mesh.parameters is None:
            mesh = replace(mesh, parameters=np.zeros((len(mesh.triangles), 3, 2), np.float32))
        corners = np.ascontiguousarray(mesh.corners())
        return cls(DropIndex.build(mesh, profile, allowance_mm), mesh, faces, corners, neighbours_of(mesh))

    def tips(self, xy: Points) -> tuple[Points, NDArray[np.bool_]]:
        """How low the tip of the tool can stand over each place.

        Args:
            xy: (n, 2) mm.

        Returns:
            (n,) mm, −inf where the tool meets nothing at all; and whether an exact face gave it: else it is off by
            what the triangles stand off, as where the tool touches the border of a face. Which faces are touched is
            what the triangles say: one that the tool passes nearer than they stand off may be missed either way.
        """
        places = np.ascontiguousarray(xy, dtype=np.float64)
        tips, settled = tip_heights(self.index, places), np.zeros(len(places), bool)
        if self.faces is None:
            return tips, settled
        index, mesh = self.index, self.mesh
        kernels.settle(
            places, tips, index.facets, index.edges, index.vertices, index.start, index.items, index.origin,
            index.cell_mm, index.shape[0], index.shape[1], index.underside.elements, index.owners,
            self.corners, mesh.face_ids, self.neighbours, mesh.parameters, self.faces.tables, mesh.deflection_mm,
            settled,
        )  # fmt: skip
        return tips, settled
