"""A small picture of a part, for lists: seen from over a corner, shaded by how its surface lies, edges drawn."""

from __future__ import annotations

import io

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.rays import RayCaster

WIDTH, HEIGHT = 240, 160
FINER = 2
"""Rays beside each other for each pixel of the picture."""
LOOK = np.array([-0.55, 0.62, -0.56])
LIGHT = np.array([0.25, -0.45, 0.86])
DARKEST, LIGHTEST = np.array([70.0, 84.0, 92.0]), np.array([222.0, 226.0, 222.0])
EDGE = np.array([42.0, 50.0, 56.0])
ROOM = 1.06


def picture_of(mesh: Mesh) -> bytes:
    """A PNG of `WIDTH` × `HEIGHT` with a clear ground."""
    wide, high = WIDTH * FINER, HEIGHT * FINER
    triangle = _seen(mesh, wide, high)
    hit = triangle >= 0
    colour = np.zeros((high, wide, 4))
    light = 0.5 + 0.5 * (mesh.unit_normals() @ (LIGHT / np.linalg.norm(LIGHT)))
    share = np.where(hit, light[triangle], 0.0)[..., None]
    colour[..., :3] = DARKEST + share * (LIGHTEST - DARKEST)
    face = np.where(hit, mesh.face_ids[triangle], -1)
    edge = np.zeros_like(hit)
    edge[1:] |= face[1:] != face[:-1]
    edge[:, 1:] |= face[:, 1:] != face[:, :-1]
    colour[edge, :3] = EDGE
    colour[..., 3] = np.where(hit | edge, 255.0, 0.0)
    stream = io.BytesIO()
    Image.fromarray(_smaller(colour), "RGBA").save(stream, "PNG", optimize=True)
    return stream.getvalue()


def _seen(mesh: Mesh, wide: int, high: int) -> NDArray[np.int64]:
    """The triangle that each pixel shows, (high, wide), −1 for none."""
    look = LOOK / np.linalg.norm(LOOK)
    right = np.cross(look, [0.0, 0.0, 1.0])
    right /= np.linalg.norm(right)
    up = np.cross(right, look)
    axes = np.column_stack([right, up, look])
    flat = mesh.vertices @ axes
    low, size = flat.min(axis=0), np.ptp(flat, axis=0)
    pixel = ROOM * max(size[0] / wide, size[1] / high, 1e-9)
    middle = low[:2] + size[:2] / 2
    x = middle[0] + pixel * (np.arange(wide) + 0.5 - wide / 2)
    y = middle[1] + pixel * (high / 2 - 0.5 - np.arange(high))
    gx, gy = np.meshgrid(x, y)
    before = np.full(gx.size, low[2] - 0.01 * size[2] - 1.0)
    origins: Points = np.column_stack([gx.ravel(), gy.ravel(), before]) @ axes.T
    return RayCaster(mesh).first_hits(origins, np.tile(look, (gx.size, 1))).reshape(high, wide)


def _smaller(colour: Points) -> NDArray[np.uint8]:
    """Pixels as the mean of their rays; clear ones weigh nothing in the colour."""
    blocks = colour.reshape(HEIGHT, FINER, WIDTH, FINER, 4)
    weight = blocks[..., 3:].sum(axis=(1, 3))
    mean = (blocks[..., :3] * blocks[..., 3:]).sum(axis=(1, 3)) / np.maximum(weight, 1.0)
    return np.concatenate([mean, weight / FINER**2], axis=-1).round().astype(np.uint8)
