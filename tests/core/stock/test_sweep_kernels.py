"""Where rays enter and leave what a convex body sweeps, against its body at many moments of the way."""

import numba
import numpy as np
import pytest

from fenrik.core.stock._sweep_kernels import depth_of, furthest, surface_normal, widest_at
from fenrik.core.tools.profile import bull_nose_profile, cone_profile

BODIES = {
    "ball": bull_nose_profile(4, 4, 12),
    "bull-nose": bull_nose_profile(4, 1, 12),
    "flat": bull_nose_profile(4, 0, 12),
    "cone": cone_profile(1.0, 4.0, 6.0),
    "falling cone": cone_profile(4.0, 1.0, 6.0),
}


@pytest.fixture(params=BODIES)
def bands(request):
    (run,) = BODIES[request.param].convex()
    return run.bands


@numba.njit
def inside(bands, places):
    """Whether places of the tool's frame lie in its body, by its radius at their heights."""
    found = np.empty(len(places), np.bool_)
    for k, (x, y, z) in enumerate(places):
        found[k] = np.hypot(x, y) <= widest_at(bands, 0, len(bands), z)
    return found


def last_in(bands, a, w, d, moments=400, steps=2400, reach=30.0):
    """The greatest λ of a dense lattice of (λ, t) at which the ray is in the body; −inf where it never is."""
    best = -np.inf
    lam = np.linspace(-reach, reach, steps)
    for t in np.linspace(0, 1, moments):
        hit = inside(bands, a + lam[:, None] * w - t * d)
        if hit.any():
            best = max(best, lam[hit].max())
    return best


WAYS = {"level": (5.0, 0.0), "down": (0.0, -4.0), "sloping": (4.0, 3.0), "nothing": (0.0, 0.0)}


@pytest.mark.parametrize("way", WAYS)
def test_rays_leave_where_the_body_does(bands, way):
    rng = np.random.default_rng(5)
    d = np.array([WAYS[way][0], 0.0, WAYS[way][1]])
    met = 0
    for k in range(6):
        w = rng.normal(size=3)
        w = w / np.linalg.norm(w) if k else np.array([0.0, 1.0, 0.0])
        a = np.array([2.0, 0.0, 4.0]) + rng.uniform(-3, 3, 3)
        lam, t, band, what = furthest(bands, 0, len(bands), *a, *w, d[0], d[2])
        want = last_in(bands, a, w, d)
        if band < 0:
            assert np.isinf(want)
            continue
        met += 1
        # The lattice can only stop short: by a step of λ, and by how far the body goes between two moments.
        assert -1e-9 <= lam - want <= 0.15
        place = a + lam * w - t * d
        assert np.hypot(place[0], place[1]) <= widest_at(bands, 0, len(bands), place[2]) + 1e-5
        normal = np.array(surface_normal(bands, band, what, *place, d[0], d[2]))
        assert normal @ w >= -1e-6 * np.linalg.norm(normal)
    assert met >= 3


def test_the_other_end_of_a_ray_is_the_same_from_behind(bands):
    """A ray and its reverse: what one leaves last the other enters first; the mirrored body swept the other way too."""
    rng = np.random.default_rng(6)
    for _ in range(50):
        w, a = rng.normal(size=3), rng.uniform(-3, 3, 3) + [1, 0, 4]
        w /= np.linalg.norm(w)
        ahead = furthest(bands, 0, len(bands), *a, *w, 3.0, 1.0)
        mirrored = furthest(bands, 0, len(bands), a[0], -a[1], a[2], w[0], -w[1], w[2], 3.0, 1.0)
        behind = furthest(bands, 0, len(bands), *a, *-w, 3.0, 1.0)
        assert (ahead[2] < 0) == (behind[2] < 0) == (mirrored[2] < 0)
        if ahead[2] >= 0:
            assert mirrored[0] == pytest.approx(ahead[0], abs=1e-8)
            assert -behind[0] <= ahead[0] + 1e-9


def test_a_ray_beside_the_body_meets_nothing(bands):
    for a, w in (((0, 4.001, 2), (1, 0, 0)), ((0, 0, -0.001), (0, 1, 0)), ((0, 0, 13.0), (0.6, 0.8, 0))):
        assert furthest(bands, 0, len(bands), *a, *w, 6.0, 0.0)[2] == -1


def test_a_stretch_is_as_deep_as_its_places_are_at_their_moments():
    # A cone, held against many places and moments.
    (run,) = cone_profile(3.0, 5.0, 6.0).convex()
    rng, met = np.random.default_rng(4), 0
    for dx, dz in ((0.0, 0.0), (4.0, 0.0), (0.0, -5.0), (3.0, 2.0), (3.0, -6.0)):
        for _ in range(60):
            p, q = rng.uniform([-5, -5, -3], [8, 5, 9], (2, 3))
            found = depth_of(*p, *q, dx, dz, run.bands, 0, len(run.bands))
            t, s = np.meshgrid(np.linspace(0, 1, 4001), np.linspace(0, 1, 5))
            x, y, z = (p[k] + s * (q[k] - p[k]) - t * way for k, way in enumerate((dx, 0.0, dz)))
            inside = (z >= 0) & (z <= 6)
            depth = np.minimum(3 + z / 3 - np.hypot(x, y), z)[inside].max(initial=0.0)
            met += depth > 0
            assert found == pytest.approx(max(depth, 0.0), abs=3e-3)
    assert met > 60
