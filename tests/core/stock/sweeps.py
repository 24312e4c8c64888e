"""Swept tools made with manifold3d from the flattened contour: hulls of thin frusta, which share nothing with ours."""

import itertools

import manifold3d
import numpy as np
from scipy.spatial.transform import Rotation

from fenrik.core.tools.contour import flatten_contour


def stations(cutter, step_deg=4.0):
    """Places (radius, height) of the contour, from tip to top, up to the end of the edges."""
    return [(r, z) for r, z in flatten_contour(cutter.contour(), step_deg) if z <= cutter.edge_length_mm + 1e-9]


def discs(places, sides=96):
    """Rings of points round +z, as wide that their area is the circle's."""
    angle = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    wide = np.sqrt(2 * np.pi / sides / np.sin(2 * np.pi / sides))
    around = np.column_stack([np.cos(angle), np.sin(angle)]) * wide
    return [np.column_stack([around * max(r, 1e-6), np.full(sides, z)]) for r, z in places]


def turned(axis):
    """A rotation that takes +z to a direction."""
    return Rotation.align_vectors([axis], [[0, 0, 1.0]])[0].as_matrix()


def swept(cutter, start, end, axis, step_deg=4.0, sides=96):
    """What a tool with a constant axis sweeps on its way, as a union over the slices of its contour."""
    rotation = turned(axis)
    rings = [ring @ rotation.T for ring in discs(stations(cutter, step_deg), sides)]
    hulls = []
    for low, high in itertools.pairwise(rings):
        body = np.concatenate([low, high])
        hulls.append(manifold3d.Manifold.hull_points(np.concatenate([body + start, body + end])))
    return manifold3d.Manifold.batch_boolean(hulls, manifold3d.OpType.Add)


def turning(cutter, start, end, first, last, pieces):
    """Samples of a tool whose axis turns evenly about the normal of both axes: bodies at many moments."""
    normal = np.cross(first, last)
    angle = np.arctan2(np.linalg.norm(normal), first @ last)
    normal = normal / np.linalg.norm(normal)
    for share in np.linspace(0, 1, pieces):
        axis = Rotation.from_rotvec(normal * angle * share).apply(first)
        yield start + (end - start) * share, axis


def stock_volume(stock):
    """Mean over the three families of the material on rays times the cell's face."""
    cell = stock.lattice.cell_mm
    total = []
    for family in range(3):
        count, at, _, _ = stock.dense(family)
        present = np.arange(at.shape[2]) < count[..., None]
        sign = np.where(np.arange(at.shape[2]) % 2 == 0, -1.0, 1.0)
        total.append(float((np.where(present, at, 0.0) * sign).sum()) * cell * cell)
    return float(np.mean(total))
