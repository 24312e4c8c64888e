"""Measure on what a job holds: its part, stock, fixtures and the table, all in part coordinates."""

from __future__ import annotations

import numpy as np

from fenrik.core.build import Build
from fenrik.core.errors import fail
from fenrik.core.frames import Frame
from fenrik.core.job import MeasureSpot
from fenrik.core.placing import in_frame
from fenrik.core.setups.stocks import box_mesh
from fenrik.core.solids import EdgeReference, Solid, find_edge, find_faces
from fenrik.core.solids.measuring import Measured, Spot, measure_between, measure_one
from fenrik.core.solids.meshes import NamedMesh, solid_from_meshes

TABLE_THICKNESS_MM = 20.0


def measure_spots(build: Build, spots: list[MeasureSpot]) -> Measured:
    """Measure at one spot or between two.

    Raises:
        FenrikError: when what a spot holds on to is lost.
    """
    found = [_spot(build, spot, f"spots.{k}") for k, spot in enumerate(spots)]
    return measure_one(found[0]) if len(found) == 1 else measure_between(found[0], found[1])


def _spot(build: Build, spot: MeasureSpot, field: str) -> Spot:
    if spot.what is None:
        return Spot(place=spot.place)
    solid = _solid(build, spot, field)
    if isinstance(spot.what, EdgeReference):
        return Spot(solid, edge=find_edge(solid, spot.what, field), place=spot.place)
    return Spot(solid, face=find_faces(solid, spot.what, field)[0], place=spot.place)


def _solid(build: Build, spot: MeasureSpot, field: str) -> Solid:
    """The solid that a spot holds on to, in part coordinates."""
    if spot.on == "part":
        return build.all_bodies
    setup = next((s for s in build.job.setups if s.id == spot.setup), None)
    if setup is None:
        raise fail(f"{field}.setup", "is gone.", "Measure again.", spot.setup)
    placing = build.placing(setup)
    back = Frame("part", -placing.frame.origin @ placing.frame.rotation, placing.frame.rotation.T)
    if spot.on == "fixture":
        solid = next((s for f, s in placing.fixtures if f.id == spot.fixture), None)
        if solid is None:
            raise fail(f"{field}.fixture", "is gone.", "Measure again.", spot.fixture)
        return in_frame(solid, back)
    if spot.on == "stock":
        mesh, _ = placing.stock_mesh()
    else:
        half = np.array([*build.job.machine_of(setup).table_mm, 0.0]) / 2
        middle = np.array([*placing.stock.mean(axis=0)[:2], placing.table_level])
        mesh = box_mesh(middle - half - [0, 0, TABLE_THICKNESS_MM], middle + half)
    vertices = placing.frame.to_part(mesh.vertices)
    return solid_from_meshes([NamedMesh(spot.on, vertices[mesh.triangles])], 1.0)
