"""What kernels of the stock leave out: against places on the swept tool, and against heights sampled along the way."""

import numpy as np
import pytest
from test_poses import CUTTERS, cutter

from fenrik.core.stock._parting_kernels import AROUND, _misses, describe_sweep
from fenrik.core.stock._upright_kernels import is_exact, swept_heights
from fenrik.core.tools import cutting_profile
from fenrik.core.tools.kernels import height
from fenrik.core.tools.underside import undersides_of

OUTLINES = [k for k in CUTTERS if len(cutting_profile(cutter(k)).convex()) == 1]


def _run(kind):
    run = cutting_profile(cutter(kind)).convex()[0]
    return run, undersides_of(run)[0].elements


@pytest.mark.parametrize("kind", OUTLINES)
@pytest.mark.parametrize("slope", [0.0, 0.4, -0.7])
def test_heights_over_a_row_are_those_of_the_tool_or_below(kind, slope):
    """The least of slope·s + h(ρ) over 4 000 places of the axis; a row that crosses the way at an angle."""
    _, chain = _run(kind)
    wide, way, room = chain[-1, 1], 3.0, np.zeros((3, 32))
    x, across, y, ahead = -1.2 * wide, 0.08 * wide, -1.1 * wide, 0.05 * wide
    swept_heights(x, across, y, ahead, 32, way, slope, 0.25, chain, room)
    axis = np.linspace(0, way, 4001)
    reached = 0
    for k in range(32):
        px, py = x + k * across, y + k * ahead
        rho = np.hypot(px - axis, py)
        heights = [s * slope + 0.25 + height(chain, r) for s, r in zip(axis, rho, strict=True) if r <= wide]
        if not heights:
            continue
        reached += 1
        assert room[0, k] <= min(heights) + 1e-9
        if is_exact(slope, chain):
            # Beside the rim a step of the sampled axis is a long way up.
            assert room[0, k] == pytest.approx(min(heights), abs=2e-3)
    assert reached > 10


@pytest.mark.parametrize("kind", OUTLINES)
def test_a_block_that_is_said_to_be_missed_is_missed_by_every_place_of_the_swept_tool(kind):
    run, chain = _run(kind)
    rng = np.random.default_rng(4)
    around = AROUND * 0.2
    angle = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    circle = np.column_stack([np.cos(angle), np.sin(angle)])
    outline = [(r, height(chain, r)) for r in np.linspace(0, chain[-1, 1], 25)] + [(run.radius_mm, run.top_mm)]
    body = np.array([[r * c, r * s, h] for r, h in outline for c, s in circle])
    missed = near = 0
    for _ in range(400):
        ray = rng.normal(size=3)
        ray /= np.linalg.norm(ray)
        helper = np.cross(ray, rng.normal(size=3))
        turn = np.column_stack([ray, helper / np.linalg.norm(helper), np.zeros(3)])
        turn[:, 2] = np.cross(turn[:, 0], turn[:, 1])
        way = turn.T @ np.array([rng.uniform(0, 4), 0.0, rng.uniform(-2, 2)])
        swept = describe_sweep(turn, way, 0, run.bands, 0, len(run.bands), chain)
        a = rng.normal(size=3) * run.radius_mm + [0, 0, 2.0]
        d = np.array([swept[3], 0.0, swept[4]])
        places = np.concatenate([body, body + d, body + 0.5 * d]) - a
        off = np.linalg.norm(places - np.outer(places @ ray, ray), axis=1).min()
        if _misses(*a, around, swept, chain):
            missed += 1
            assert off >= around - 0.02 * run.radius_mm
            near += off < around + 1.0
    assert missed > 40
    assert near > 3
