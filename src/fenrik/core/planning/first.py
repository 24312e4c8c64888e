"""How a part is held first: which side looks up and why, the stock round it, and the machine that takes it."""

from __future__ import annotations

import numpy as np
import shapely
from pydantic import BaseModel, Field

from fenrik.core.build import Build
from fenrik.core.frames import AXES, Points
from fenrik.core.job import Setup
from fenrik.core.machines import Machine
from fenrik.core.planning.forecast import Surface
from fenrik.core.planning.looking import directions_of
from fenrik.core.setups.orientation import UpAxis, UpDirection
from fenrik.core.solids.seeing import seen_places

SAME = 1 - 1e-6
LOW_WORTH, REST_WORTH, AXIS_WORTH, UP_WORTH = 0.5, 0.05, 0.02, 0.01
"""What lying low, a flat underside, an axis of the model, and its own way up count beside the share that is seen."""
LEAST_REST = 0.02
TURN_SAVES = 0.1
"""The part is turned about Z where that makes the stock smaller by at least this share."""


class FirstSetup(BaseModel):
    """A setup to begin with, and why."""

    setup: Setup
    seen: float = Field(description="share of the surface that can be seen from above")
    words: str


def first_setup(build: Build) -> FirstSetup:
    """A setup with the side up that sees most of the surface, of those in which the part lies low and rests well.

    Raises:
        FenrikError: when the part is missing.
    """
    surface = Surface(build)
    places, solid = surface.places, build.solid
    whole = float(places.area_mm2.sum())
    holes = build.recognition().holes
    best, most, share = np.array([0.0, 0.0, 1.0]), -1.0, 0.0
    looks = directions_of(solid, holes)
    extents = [float(np.ptp(solid.mesh.vertices @ up)) for up in looks]
    for up, extent in zip(looks, extents, strict=True):
        seen = float(places.area_mm2[seen_places(surface.rays, places, up, 2 * surface.deflection_mm)].sum()) / whole
        under = float(places.area_mm2[places.normal @ up < -SAME].sum()) / whole
        axis = any(float(up @ np.array(a)) > SAME for a in AXES.values())
        worth = (
            seen
            + LOW_WORTH * min(extents) / extent
            + REST_WORTH * (under > LEAST_REST)
            + AXIS_WORTH * axis
            + UP_WORTH * (up[2] > SAME)
        )
        if worth > most + 1e-9:
            best, most, share = up, worth, seen
    name = next((n for n, d in AXES.items() if float(np.array(d) @ best) > SAME), None)
    x, y, z = (float(v) for v in best)
    up_now = UpAxis.model_validate({"axis": name}) if name else UpDirection(direction=(x, y, z), came_from="most seen")
    setup = Setup(id="s1", name="Setup 1", up=up_now)
    setup = setup.model_copy(update={"spin_deg": _turn(build, setup)})
    setup = setup.model_copy(update={"machine": _machine_for(build, setup)})
    side = name.upper().replace("-", "−") if name else f"({x:.2f}, {y:.2f}, {z:.2f})"
    return FirstSetup(setup=setup, seen=share, words=f"{side} is up: it sees {100 * share:.0f} % of the surface.")


def _turn(build: Build, setup: Setup) -> float:
    """Turn about Z, in degrees, that makes the box round the part smallest; 0 where that saves little."""
    flat: Points = build.frame(setup).to_local(build.solid.mesh.vertices)[:, :2]
    rectangle = shapely.minimum_rotated_rectangle(shapely.MultiPoint(flat))
    if rectangle.geom_type != "Polygon" or rectangle.area > (1 - TURN_SAVES) * float(np.prod(np.ptp(flat, axis=0))):
        return 0.0
    corners = shapely.get_coordinates(rectangle)
    sides = np.diff(corners[:3], axis=0)
    along = sides[int(np.linalg.norm(sides, axis=1).argmax())]
    angle = float(np.rad2deg(np.arctan2(along[1], along[0])))
    return round((angle + 90.0) % 180.0 - 90.0, 6)


def _machine_for(build: Build, setup: Setup) -> str:
    """The first machine of the job whose travel takes the stock; the one with most travel where none does."""

    def room(machine: Machine) -> float:
        return float(np.min(np.array(machine.travel_mm) - size))

    low, high = build.placing(setup).stock
    size = high - low
    machines = build.job.machines
    fits = next((m for m in machines if room(m) >= 0), None) or max(machines, key=room, default=None)
    return fits.name if fits else ""
