"""Passes steered through material so that the engagement of the cutter is held.

Step by step the bend most into the material is taken at which the engagement, measured on the ground as it is then,
stays below its limit, and from which a tight turn away from the material keeps below it too. So a pass does not come to
where it could not go on, whatever the ground is like: it follows walls, goes in loops through necks and round islands.

Constant engagement: Stori and Wright, Journal of Manufacturing Systems 19, 2000; Uddin et al., Journal of
Manufacturing Science and Engineering 129, 2007. On a raster of what is cleared: Dumitrache and Borangiu, Engineering
Applications of Artificial Intelligence 25, 2012.
"""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel
from fenrik.core.strategies.ground._cleared_kernels import Ground, engagement, fence_at, stamp, sweep

SECANTS = 4
CLOSE = 6e-3
"""Share of the limit to which it is come up."""
OVER_FENCE, OVER_LIMIT = 2e-3, 1.01
"""By how much of the radius a way out may pass the fence, and how many times the limit it may come to: what is good now
must not be bad after a step for rounding."""
AHEAD = 8
"""Steps of a quarter turn away from material in which it is looked whether that is a way out."""
IN_TURNS, TIGHT_TURN = 0.2, 4.0
"""By how much less of the limit is allowed in turns of the radius divided by so much, and tighter ones."""
TURN = 0.25
"""Radians by which one step turns at most."""


@kernel(nogil=True)
def _turned(x: float, y: float, ux: float, uy: float, bend: float, way: float) -> tuple[float, float, float, float]:
    """Place and direction after a way along an arc; bend above 0 goes right."""
    angle = -bend * way
    c, s = np.cos(angle), np.sin(angle)
    if abs(angle) < 1e-6:
        forth, aside = way, 0.5 * way * angle
    else:
        forth, aside = way * s / angle, way * (1.0 - c) / angle
    return x + forth * ux - aside * uy, y + forth * uy + aside * ux, c * ux - s * uy, s * ux + c * uy


@kernel(nogil=True)
def _allowed(g: Ground, bend: float, limit: float) -> float:
    """The limit where the axis turns away from the material: in a tight turn a little material is a long arc."""
    return limit * (1.0 - IN_TURNS * min(max(-bend * g.radius / TIGHT_TURN, 0.0), 1.0))


@kernel(nogil=True)
def _good(
    g: Ground, x: float, y: float, ux: float, uy: float, bend: float, way: float, limit: float, away: float
) -> bool:
    """Whether a step keeps to the limit and leaves a way out: turning off at the bend `away`."""
    allowed = _allowed(g, bend, limit)
    x, y, ux, uy = _turned(x, y, ux, uy, bend, way)
    room = fence_at(g, x, y)
    if room > 0.0 or engagement(g, x, y, ux, uy) > allowed:
        return False
    near = room > -2.0 / away
    for k in range(AHEAD + 1):
        part = np.pi / 2 * (k if k > 0 else 0.5) / AHEAD
        px, py, vx, vy = _turned(x, y, ux, uy, -away, part / away)
        if near and fence_at(g, px, py) > OVER_FENCE * g.radius:
            return False
        if k in (0, 1, 2, 4, 6, 8) and engagement(g, px, py, vx, vy) > OVER_LIMIT * limit:
            return False
    return True


@kernel(nogil=True)
def _away(g: Ground, x: float, y: float, ux: float, uy: float, bend: float, way: float, limit: float) -> bool:
    """Whether a step away from the material keeps to the limit."""
    x, y, ux, uy = _turned(x, y, ux, uy, bend, way)
    return fence_at(g, x, y) <= 2.0 * OVER_FENCE * g.radius and engagement(g, x, y, ux, uy) <= OVER_LIMIT**2 * limit


@kernel(nogil=True)
def _held(
    g: Ground, x: float, y: float, ux: float, uy: float, way: float, limit: float, away: float, into: float, last: float
) -> tuple[float, bool]:
    """The bend at which a step comes just up to the limit, by secants from the last one, and whether they met it."""
    slope = 0.5 * way * way / (g.radius * max(np.sin(min(limit, 0.5 * np.pi)), 0.1))
    bend, before, value_before = last, 0.0, np.nan
    for _ in range(SECANTS):
        px, py, vx, vy = _turned(x, y, ux, uy, bend, way)
        value = engagement(g, px, py, vx, vy) - (1.0 - 0.5 * CLOSE) * _allowed(g, bend, limit)
        if abs(value) < 0.5 * CLOSE * limit or (bend == into and value < 0.0):
            return bend, True
        if not np.isnan(value_before) and abs(bend - before) > 1e-9 and (value - value_before) / (bend - before) > 0.0:
            slope = (value - value_before) / (bend - before)
        before, value_before = bend, value
        bend = min(max(bend - value / slope, -away), into)
    return bend, False


@kernel(nogil=True)
def _bend(
    g: Ground, x: float, y: float, ux: float, uy: float, way: float, limit: float, away: float, into: float, last: float
) -> float:
    """The bend most into the material that is good; NaN where none is."""
    held, met = _held(g, x, y, ux, uy, way, limit, away, into, last)
    if _good(g, x, y, ux, uy, held, way, limit, away):
        if met or _good(g, x, y, ux, uy, into, way, limit, away):
            return held if met else into
        low, high = held, into
    elif _good(g, x, y, ux, uy, -away, way, limit, away):
        low, high = -away, held
    else:
        return np.nan
    while high - low > 4e-3 * (away + into):
        middle = 0.5 * (low + high)
        if _good(g, x, y, ux, uy, middle, way, limit, away):
            low = middle
        else:
            high = middle
    return low


@kernel(nogil=True)
def cut_pass(
    g: Ground, x: float, y: float, ux: float, uy: float, limit: float, wide: float, tight: float, into: float,
    way: float, low: float, air: float, out: np.ndarray, count: int,
) -> tuple[int, int]:  # fmt: skip
    """Steer from a place as far into the material as the limit of engagement allows, until there is none.

    Args:
        limit: radians. wide, tight: bends away from material, 1/mm, as a rule and where there is no room for that.
        into: greatest bend into it. way: greatest step. air: how far it goes on without material, and half
            as far as it may have to go to it.
        out: (n, 6) place, direction, engagement, thickest material taken; written on from `count` on.

    Returns:
        Number of places in all, and why it ends: 0 no material any more, 1 `out` is full, 2 no way on.
    """
    last, idle = 0.0, -air
    if count > 1:
        x, y, ux, uy = out[count - 1, 0], out[count - 1, 1], out[count - 1, 2], out[count - 1, 3]
    else:
        out[0, 0], out[0, 1], out[0, 2], out[0, 3], out[0, 4] = x, y, ux, uy, 0.0
        stamp(g, x, y)
        count = 1
    while count < len(out):
        step = min(way, TURN / max(abs(last), 1e-9))
        bend = _bend(g, x, y, ux, uy, step, limit, wide, into, last)
        if np.isnan(bend):
            step = min(way, TURN / tight)
            bend = _bend(g, x, y, ux, uy, step, limit, tight, into, last)
        if np.isnan(bend) and _away(g, x, y, ux, uy, -tight, step, limit):
            bend = -tight
        if np.isnan(bend):
            return count, 2
        nx, ny, vx, vy = _turned(x, y, ux, uy, bend, step)
        held = engagement(g, nx, ny, vx, vy)
        took = sweep(g, x, y, nx, ny)
        x, y, ux, uy, last = nx, ny, vx, vy, bend
        out[count, 0], out[count, 1], out[count, 2], out[count, 3], out[count, 4] = x, y, ux, uy, held
        out[count, 5] = took
        count += 1
        idle = 0.0 if held > low else idle + step
        if idle > air:
            return count, 0
    return count, 1


@kernel(nogil=True)
def first_open(g: Ground, run: np.ndarray, begin: int, aside: float, least: float) -> int:
    """The first place of a pass, from one on, to whose right there is material that the cutter can take; −1: none.

    Args:
        aside: how far to the right it is looked. least: engagement there from which it counts, radians.
    """
    for k in range(begin, len(run)):
        x, y, ux, uy = run[k, 0] + aside * run[k, 3], run[k, 1] - aside * run[k, 2], run[k, 2], run[k, 3]
        if fence_at(g, x, y) <= 0.0 and engagement(g, x, y, ux, uy) > least:
            return k
    return -1


@kernel(nogil=True)
def along(g: Ground, points: np.ndarray, held: np.ndarray) -> None:
    """Go along places (n, 2) that stand close, and take down the engagement (n,) at each; the first is cleared."""
    for k in range(1, len(points)):
        ax, ay, bx, by = points[k - 1, 0], points[k - 1, 1], points[k, 0], points[k, 1]
        size = np.hypot(bx - ax, by - ay)
        if size > 0.0:
            held[k] = engagement(g, bx, by, (bx - ax) / size, (by - ay) / size)
            sweep(g, ax, ay, bx, by)


@kernel(nogil=True)
def touched(g: Ground, points: np.ndarray, found: np.ndarray) -> None:
    """The engagement (n,) at each place (n, 2) of a line on the ground as it is."""
    for k in range(len(points)):
        a, b = max(k - 1, 0), min(k + 1, len(points) - 1)
        dx, dy = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1]
        size = max(np.hypot(dx, dy), 1e-12)
        found[k] = engagement(g, points[k, 0], points[k, 1], dx / size, dy / size)
