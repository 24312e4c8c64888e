"""The seal figurehead, 1.8 m of oak for the jetty at Skarrow Point: its mesh, its sawn blank, and a spiral round it.

The figure is a radius about a spine, by height and angle. The spiral is that of a ball-ended mill that touches the mesh
(not the figure that the mesh stands for): its centre is pushed out until the nearest triangle is a radius away.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy.interpolate import PchipInterpolator

from fenrik.core.contact.distance import DistanceIndex, signed_distances
from fenrik.core.frames import Points
from fenrik.core.solids.model import Mesh
from fenrik.core.solids.writing import stl_bytes

HEIGHT_MM, TOP_MM = 1800.0, 1792.0
ROUND, RINGS = 64, 72
SAWN_MM = 8.0
"""How much thicker the blank is."""
_HEIGHTS = [0, 60, 320, 700, 1050, 1250, 1430, 1560, 1690, 1770, 1800]
_RADII = [235, 228, 205, 232, 190, 128, 132, 136, 104, 52, 4]
_RADIUS = PchipInterpolator(_HEIGHTS, _RADII)
PUSHES, ROUNDS, CHORD_MM = 12, 7, 0.08


def surface(angle: Points, height: Points, more_mm: float = 0.0) -> Points:
    """Places (n, 3) of the figure at angles and heights (n,), or of one that is thicker by so much."""
    z = np.clip(height, 0.0, HEIGHT_MM)
    snout = 74.0 * np.exp(-((np.angle(np.exp(1j * angle)) / 0.55) ** 2) - ((z - 1490.0) / 95.0) ** 2)
    flippers = 34.0 * np.exp(-(((np.abs(np.angle(np.exp(1j * angle))) - 1.5) / 0.6) ** 2) - ((z - 760.0) / 170.0) ** 2)
    tail = 10.0 * np.cos(3.0 * angle) * np.exp(-(((z - 250.0) / 220.0) ** 2))
    radius = _RADIUS(z) + snout + flippers + tail + more_mm
    spine = 46.0 * np.sin(z / 520.0)
    return np.column_stack([spine + radius * np.cos(angle), radius * np.sin(angle), height])


def mesh(more_mm: float = 0.0) -> Mesh:
    """The figure as a closed mesh, coarse; thicker by so much all round, and on top."""
    t = 2 * np.pi * np.arange(ROUND) / ROUND
    heights = np.append(np.linspace(0.0, 1690.0, RINGS - 12), np.linspace(1702.0, HEIGHT_MM, 12))
    rings = [surface(t, np.full(ROUND, h), more_mm) for h in heights.tolist()]
    rings = [r + [0.0, 0.0, more_mm * h / HEIGHT_MM] for r, h in zip(rings, heights.tolist(), strict=True)]
    places = np.vstack([*rings, rings[0].mean(axis=0)[None], rings[-1].mean(axis=0)[None] + [0, 0, 1.5]])
    j, k = np.arange(ROUND), (np.arange(ROUND) + 1) % ROUND
    triangles = []
    for r in range(len(rings) - 1):
        low, high = r * ROUND, (r + 1) * ROUND
        triangles += [np.column_stack([low + j, low + k, high + j]), np.column_stack([low + k, high + k, high + j])]
    n = len(rings) * ROUND
    triangles += [np.column_stack([np.full(ROUND, n), k, j]),
                  np.column_stack([np.full(ROUND, n + 1), n - ROUND + j, n - ROUND + k])]  # fmt: skip
    faces = np.vstack(triangles).astype(np.int32)
    return Mesh(places, faces, np.zeros(len(faces), np.int32))


@lru_cache(maxsize=2)
def model(more_mm: float = 0.0) -> bytes:
    """The figure as STL."""
    return stl_bytes(mesh(more_mm))


def spiral(ball_mm: float, pitch_mm: float, around: int, lean: float = 0.45) -> tuple[Points, Points]:
    """Tips (n, 3) and axes (n, 3) of a ball-ended mill that goes round the figure from its head to its base.

    Args:
        around: places in each turn. lean: how far the tool stands up from across the surface.
    """
    heights = np.linspace(TOP_MM, ball_mm, 2000)
    radius = _RADIUS(np.clip(heights, 0, HEIGHT_MM))
    run = np.append(0.0, np.cumsum(np.hypot(np.diff(heights), np.diff(radius))))
    turns = run[-1] / pitch_mm
    t = np.arange(int(turns * around) + 1) / around
    index, radius_mm = DistanceIndex.build(mesh()), ball_mm / 2
    centre, normal = _rolled(index, radius_mm, t, np.interp(t * pitch_mm, run, heights))
    for _ in range(ROUNDS):
        # Where the ball would go through the figure between two places, one more is put in.
        deep = radius_mm - signed_distances(index, 0.5 * (centre[1:] + centre[:-1])).mm
        between = np.flatnonzero(deep > CHORD_MM)
        if len(between) == 0:
            break
        new = 0.5 * (t[between] + t[between + 1])
        own, own_normal = _rolled(index, radius_mm, new, np.interp(new * pitch_mm, run, heights))
        t = np.insert(t, between + 1, new)
        centre = np.insert(centre, between + 1, own, axis=0)
        normal = np.insert(normal, between + 1, own_normal, axis=0)
    axis = normal + [0.0, 0.0, lean]
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    return centre - radius_mm * axis, axis


def _rolled(index: DistanceIndex, radius_mm: float, turns: Points, height: Points) -> tuple[Points, Points]:
    """Centres of a ball that touches the mesh beside places of the figure, and the figure's normals there."""
    angle, step = 2 * np.pi * turns, 1e-3
    along = surface(angle + step, height) - surface(angle - step, height)
    upward = surface(angle, height + step) - surface(angle, height - step)
    normal = np.cross(along, upward)
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    centre = surface(angle, height) + radius_mm * normal
    for _ in range(PUSHES):
        gap = signed_distances(index, centre).mm
        centre = centre + (radius_mm - gap)[:, None] * normal
    short = radius_mm - signed_distances(index, centre).mm
    return centre + np.maximum(short, 0.0)[:, None] * normal, normal


@lru_cache(maxsize=1)
def cutter_location(tool: int, ball_mm: float, pitch_mm: float, around: int, rpm: int, feed: float) -> bytes:
    """The spiral in the words of ISO 3592, from the middle under the figure, with its ways to and from the work."""
    tip, axis = spiral(ball_mm, pitch_mm, around)
    low, high = mesh().vertices.min(axis=0), mesh().vertices.max(axis=0)
    tip = tip - [0.5 * (low[0] + high[0]), 0.5 * (low[1] + high[1]), low[2]]
    out, begin = tip[-1] + 120.0 * axis[-1], tip[0] + 60.0 * axis[0]

    def goto(p: Points, a: Points) -> str:
        return "GOTO/ " + ",".join(f"{v:.4f}" for v in p) + "," + ",".join(f"{v:.6f}" for v in a)

    lines = ["PARTNO/ SEAL FIGUREHEAD", "UNITS/ MM", "MULTAX/ ON",
             f"CUTTER/ {ball_mm:g},{ball_mm / 2:g},0,{ball_mm / 2:g},0,0,{2 * ball_mm:g}", f"LOADTL/ {tool}",
             f"SPINDL/ {rpm},RPM,CLW", "RAPID", goto(begin, axis[0]), f"FEDRAT/ {feed / 2:g},MMPM",
             goto(tip[0], axis[0]), f"FEDRAT/ {feed:g},MMPM"]  # fmt: skip
    lines += [goto(p, a) for p, a in zip(tip[1:], axis[1:], strict=True)]
    lines += ["RAPID", goto(out, axis[-1]), "SPINDL/ OFF", "FINI", ""]
    return "\n".join(lines).encode()
