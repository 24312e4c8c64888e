"""Benchmarks of cutting the stock: speed and truth, upright, tilted and turning."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

from common import show, timed

sys.path.insert(0, str(Path(__file__).parent.parent / "tests/core/stock"))


def _finish(points_on: int = 40) -> np.ndarray:
    """Tips of a ball that goes to and fro over a wavy surface, in steps of 1 mm."""
    along = np.arange(0, 101, 1.0)
    rows = [
        np.column_stack(
            [along if k % 2 == 0 else along[::-1], np.full(101, 10.0 + k), 26 + 1.5 * np.sin(along / 9 + k / 7)]
        )
        for k in range(points_on)
    ]
    return np.concatenate(rows)


def cutting() -> None:
    """1 mm motions of a ball R 5 at 0.2 mm cells against hull sweeps subtracted one by one; the same tilted."""
    import manifold3d

    from fenrik.core.stock import Stock, cut
    from fenrik.core.toolpath import Poses
    from fenrik.core.tools import Assembly, bull_nose_profile

    points = _finish()
    stock = Stock.box(np.zeros(3), np.array([100.0, 100, 30]), 0.2)
    ball = Assembly(bull_nose_profile(5, 5, 25))
    upright = Poses.upright(points[:-1], points[1:])
    lean = np.array([0.3, 0.2, 1.0])
    # The same ball in the same places: its centre stays where it was.
    shift = np.array([0, 0, 5.0]) - 5 * lean / np.linalg.norm(lean)
    tilted = Poses.tilted(points[:-1] + shift, points[1:] + shift, lean)
    for poses in (upright, tilted):
        cut(stock, poses.rows(np.arange(2)), ball)
    ours = len(upright) / timed(lambda: cut(stock, upright, ball))
    leaning = len(tilted) / timed(lambda: cut(stock, tilted, ball))
    # Facets of the hull within 0.005 mm of the ball: 72 around, 18 from pole to equator.
    profile = [(5 * np.sin(a), 5 - 5 * np.cos(a)) for a in np.linspace(0, np.pi / 2, 19)] + [(5, 25)]
    around = np.linspace(0, 2 * np.pi, 72, endpoint=False)
    body = np.array([[r * np.cos(u), r * np.sin(u), h] for r, h in profile for u in around])
    count = 600
    began = time.perf_counter()
    solid = manifold3d.Manifold.cube([100, 100, 30])
    for p, q in zip(points[:count], points[1 : count + 1], strict=True):
        solid = solid - manifold3d.Manifold.hull_points(np.concatenate([body + p, body + q]))
        solid.num_tri()
    reference = count / (time.perf_counter() - began)
    show("cutting stock", ours / reference, "at least 250", f"{ours:.0f} motions/s, manifold3d {reference:.1f}")
    show("cutting stock, tilted", leaning / ours, "at least 0.33 of upright", f"{leaning:.0f} motions/s")


def poses(count: int = 500) -> None:
    """Cut volume of random constant poses, all outlines, against Boolean operations on slices of the contour."""
    import manifold3d
    from sweeps import stock_volume, swept
    from test_poses import CUTTERS, SIZE, cutter, random_pose

    from fenrik.core.stock import Stock, cut
    from fenrik.core.toolpath import Poses
    from fenrik.core.tools import Assembly, cutting_profile

    rng = np.random.default_rng(1)
    stock, block = Stock.box(np.zeros(3), SIZE, 0.1), manifold3d.Manifold.cube(SIZE.tolist())
    before = stock_volume(stock)
    worst: dict[str, float] = {}
    for k in range(count):
        kind = list(CUTTERS)[k % len(CUTTERS)]
        c = cutter(kind)
        start, end, axis = random_pose(rng)
        after, _ = cut(stock, Poses.tilted(start, end, axis), Assembly(cutting_profile(c)))
        gone = block.volume() - (block - swept(c, start, end, axis, 0.5 if kind == "barrel" else 1.5, 192)).volume()
        worst[kind] = max(worst.get(kind, 0.0), abs(before - stock_volume(after) - gone) / gone)
    detail = ", ".join(f"{kind} {100 * w:.3f} %" for kind, w in worst.items())
    show("cut volume, random poses", max(worst.values()), "at most 0.001", f"{count} poses: {detail}")


def turning(count: int = 200) -> None:
    """Surface left by motions in which the axis turns, against dense samples of the turning tool."""
    from sweeps import turning as moments
    from test_poses import CUTTERS, SIZE, cutter, depth_in, random_pose

    from fenrik.core.stock import Stock, cut
    from fenrik.core.toolpath import Poses
    from fenrik.core.tools import Assembly, cutting_profile

    rng = np.random.default_rng(2)
    stock = Stock.box(np.zeros(3), SIZE, 0.4)
    deep, high, bound = 0.0, 0.0, 0.0
    for k in range(count):
        c = cutter(list(CUTTERS)[k % len(CUTTERS)])
        profile = cutting_profile(c)
        start, end, first = random_pose(rng, 4.0)
        last = first + rng.normal(size=3) * 0.15
        last /= np.linalg.norm(last)
        after, _ = cut(
            stock, Poses(start[None], end[None], first[None], last[None], np.zeros(1, int)), Assembly(profile)
        )
        places, _, sources = after.hits()
        made = places[sources == 0][::5]
        depth = np.full(len(made), -np.inf)
        for tip, axis in moments(c, start, end, first, last, 1200):
            depth = np.maximum(depth, depth_in(profile, made - tip, axis))
        # Between samples the tool moves by its step, which the reference does not see.
        step = (np.linalg.norm(end - start) + np.arccos(min(first @ last, 1.0)) * 16) / 1200
        deep, high = max(deep, float(depth.max())), max(high, float(-depth.min()) - step)
        bound = max(bound, after.error_mm)
    show(
        "turning axis",
        max(deep, high) / 0.005,
        "at most 1 (0.005 mm)",
        f"{count} motions: left standing {1000 * deep:.2f} µm, cut beyond {1000 * max(high, 0):.2f} µm, told {1000 * bound:.2f} µm",
    )


def matrix() -> None:
    """Every cutter with every strategy that takes it: computed, cut, posted, read back, proven."""
    sys.path[:0] = [str(Path(__file__).parent.parent / "tests/core" / folder) for folder in ("", "stock", "strategies")]
    from test_matrix import PAIRS, walk

    done, told = 0, []
    for strategy, kind in PAIRS:
        try:
            taken, _, outcome = walk(strategy, kind)
            done += taken > 1.0
            if taken <= 1.0:
                told.append(
                    f"{strategy} with {kind}: {'; '.join(u.reason for u in outcome.unreached[:1]) or 'nothing'}"
                )
        except Exception as error:
            told.append(f"{strategy} with {kind}: {error}")
    show("matrix", done / len(PAIRS), "1", f"{done} of {len(PAIRS)} pairs; the others: {' | '.join(told) or 'none'}")


BENCHES = {f.__name__: f for f in (cutting, matrix, poses, turning)}
