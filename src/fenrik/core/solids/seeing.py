"""What of a solid can be seen along a direction."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import Points
from fenrik.core.solids.model import Solid
from fenrik.core.solids.rays import RayCaster
from fenrik.core.solids.sampling import SurfacePlaces

SEEN_COSINE = -1e-3
"""Places that stand along a look count as seen."""
FACET_SINE = 0.1
"""Facets of a curved face may lean by this much more than the face itself."""


def hidden_triangles(solid: Solid, rays: RayCaster, look: Points) -> NDArray[np.bool_]:
    """Triangles that face away from a look, or that something stands before.

    Args:
        look: (3,) unit vector from the part towards the eye.
    """
    mesh = solid.mesh
    corners = mesh.corners()
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = cross / np.maximum(np.linalg.norm(cross, axis=1), 1e-300)[:, None]
    slack = np.array([1e-6 if f.kind == "plane" else FACET_SINE for f in solid.faces])[mesh.face_ids]
    # Stand off by more than facets stray from the surface, so that upright walls do not hide themselves.
    lift = max(1.5 * mesh.deflection_mm, 1e-3)
    places = corners.mean(axis=1) + lift * normals
    hit = rays.first_hits(places + lift * look, np.tile(look, (len(places), 1)))
    return (normals @ look <= -slack) | (hit >= 0)


def seen_places(rays: RayCaster, places: SurfacePlaces, look: Points, lift_mm: float) -> NDArray[np.bool_]:
    """Places that face a look or stand along it, and have nothing before them, (n,).

    Args:
        look: (3,) unit vector from the part towards the eye. lift_mm: how far off the surface is looked from.
    """
    rows = np.flatnonzero(places.normal @ look > SEEN_COSINE)
    start = places.place[rows] + lift_mm * (places.normal[rows] + look)
    seen = np.zeros(len(places), bool)
    seen[rows[rays.first_hits(start, np.tile(look, (len(rows), 1))) < 0]] = True
    return seen


def seen_faces(solid: Solid, look: Points) -> NDArray[np.bool_]:
    """Faces of which at least a triangle can be seen, (faces,)."""
    hidden = hidden_triangles(solid, RayCaster(solid.mesh), look)
    seen = np.zeros(len(solid.faces), bool)
    seen[solid.mesh.face_ids[~hidden]] = True
    return seen
