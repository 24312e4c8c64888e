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
from fenrik.core.setups.orientation import UpAxis, UpDirection, oriented_frame
from fenrik.core.solids.seeing import seen_places

SAME = 1 - 1e-6
LOW_WORTH, REST_WORTH, AXIS_WORTH, UP_WORTH = 0.5, 0.05, 0.02, 0.01
"""What lying low, a flat underside, an axis of the model, and its own way up count beside the share that is seen."""
LEAST_REST = 0.02
BESIDE_MM = 10.0
"""Room for the tool that machines are asked for on each side of the stock."""
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
    setup = turned_square(build, setup, solid.mesh.vertices)
    setup = turned_square(build, setup.model_copy(update={"machine": _machine_for(build, setup)}), solid.mesh.vertices)
    side = name.upper().replace("-", "−") if name else f"({x:.2f}, {y:.2f}, {z:.2f})"
    return FirstSetup(setup=setup, seen=share, words=f"{side} is up: it sees {100 * share:.0f} % of the surface.")


def turned_square(build: Build, setup: Setup, places: Points) -> Setup:
    """A setup turned about Z so that what lies within places (n, 3), in the part's coordinates, lies along the axes of
    its machine: where that makes the box round it clearly smaller, or where the travel takes it only that way round."""
    turn = _turn(_from_above(build, setup, 0.0, places))
    travel = next((m.travel_mm for m in build.job.machines if m.name == setup.machine), None)
    if travel is not None:
        across = turn + (90.0 if turn <= 0 else -90.0)
        size, turned = (np.ptp(_from_above(build, setup, t, places), axis=0) for t in (turn, across))
        if _room(travel, size) < 0 and _room(travel, turned) > _room(travel, size) + 1e-6:
            turn = across
    return setup.model_copy(update={"spin_deg": round(turn, 6)})


def _from_above(build: Build, setup: Setup, spin_deg: float, places: Points) -> Points:
    """Places (n, 3) of the part as they lie in a setup turned by so much, (n, 2)."""
    frame = oriented_frame(setup.up, build.solid, "up", spin_deg=spin_deg)
    return np.asarray(frame.to_local(places)[:, :2])


def _room(travel_mm: tuple[float, float, float], size: Points) -> float:
    """The least room that a machine's travel has for something of a size (2,) or (3,) and a tool beside it, mm."""
    beside = np.array([2 * BESIDE_MM, 2 * BESIDE_MM, 0.0])[: len(size)]
    return float(np.min(np.array(travel_mm)[: len(size)] - size - beside))


def _turn(flat: Points) -> float:
    """Turn, in degrees, that makes the box round places (n, 2) smallest; 0 where that saves little."""
    rectangle = shapely.minimum_rotated_rectangle(shapely.MultiPoint(flat))
    if rectangle.geom_type != "Polygon" or rectangle.area > (1 - TURN_SAVES) * float(np.prod(np.ptp(flat, axis=0))):
        return 0.0
    corners = shapely.get_coordinates(rectangle)
    sides = np.diff(corners[:3], axis=0)
    along = sides[int(np.linalg.norm(sides, axis=1).argmax())]
    angle = float(np.rad2deg(np.arctan2(along[1], along[0])))
    return (angle + 90.0) % 180.0 - 90.0


def _machine_for(build: Build, setup: Setup) -> str:
    """The first machine of the job whose travel takes the stock, one way round or the other; the one with most travel
    where none does."""
    alone = build.with_job(build.job.model_copy(update={"setups": [setup], "operations": []}))
    low, high = alone.placing(setup).stock
    size = high - low

    def room(machine: Machine) -> float:
        return max(_room(machine.travel_mm, size), _room(machine.travel_mm, size[[1, 0, 2]]))

    machines = build.job.machines
    fits = next((m for m in machines if room(m) >= 0), None) or max(machines, key=room, default=None)
    return fits.name if fits else ""
