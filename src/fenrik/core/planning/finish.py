"""How much of a part's surface is finished, and what is left over by face: area, thickness, reason, way out."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, Field

from fenrik.core.build import Build
from fenrik.core.job import Setup
from fenrik.core.keys import key_of
from fenrik.core.planning.forecast import Forecast, forecast
from fenrik.core.planning.left_map import (
    LeftMap,
    first_thickness,
    last_standings,
    least_off,
    measured_map,
    predicted_map,
)
from fenrik.core.planning.lying import STRATEGY_FOR, Mask, duty_of
from fenrik.core.stock.standing import Standing

LEAST_MM2 = 0.05


VERSION = 1


class LeftOver(BaseModel):
    """What is left of one face."""

    face: int = Field(description="number in the file's order, from 0")
    area_mm2: float
    most_mm: float = Field(description="greatest thickness that stands there")
    why: str
    would_do: str = Field(default="", description="the row that would finish it")
    setup: str = Field(default="", description="the setup that sees most of it; empty: none does")


class Finish(BaseModel):
    """How much of the surface is finished.

    `measured` is True where the cut stock says so, False where only the rows are known.
    """

    finished_fraction: float
    left_over: list[LeftOver]
    measured: bool

    @property
    def words(self) -> str:
        """In one line."""
        count = len(self.left_over)
        told = "nothing left" if not count else f"{count} {'face' if count == 1 else 'faces'} left"
        said = "finished" if self.measured else "will finish"
        return f"{said} {100 * self.finished_fraction:.1f} % of the surface; {told}"


def predicted_finish(build: Build) -> Finish:
    """What the rows of a job will finish; thicknesses are those of the first stock.

    Raises:
        FenrikError: when the part is missing, or picked geometry is lost.
    """
    found = forecast(build)
    places = found.surface.places
    left = _by_face(~found.done, places.face, places.area_mm2, first_thickness(build, found))
    return Finish(finished_fraction=found.finished_fraction, left_over=_told(build, found, left), measured=False)


def measured_finish(build: Build) -> Finish | None:
    """What stands over the part after all rows; None where no row is switched on.

    Where several chains of setups begin with stocks of their own, each face counts as in the chain that leaves least.

    Raises:
        FenrikError: when the part is missing, or a row cannot be computed.
    """
    return _measured(build, last_standings(build))


def _measured(build: Build, stands: list[tuple[Setup, Standing]]) -> Finish | None:
    if not stands:
        return None
    least, chains = least_off(build), [found for _, found in stands]
    lefts = [_by_face(c.over_mm > least, c.face, c.area_mm2, c.over_mm) for c in chains]
    both = set.intersection(*(set(one) for one in lefts))
    left = {f: min(one[f] for one in lefts) for f in both}
    whole = float(chains[0].area_mm2.sum())
    share = sum(area for area, _ in left.values()) / whole if whole > 0 else 0.0
    told = _told(build, forecast(build), left) if left else []
    return Finish(finished_fraction=1.0 - share, left_over=told, measured=True)


def finish_key(build: Build) -> str:
    """Key of what is finished after all rows: changes with what they leave, and with the part."""
    # The key of the last stock of a setup has those of all rows before in it.
    last = {s.id: build.stock_key(route[-1]) for s in build.job.setups if (route := build.job.route(s))}
    return key_of("finish", VERSION, part=build.solid_key, last=last)


def kept_finish(build: Build) -> Finish | None:
    """What `keep_finish` measured, where it is still true."""
    data = build.store.get(finish_key(build)) if build.job.part is not None else None
    return Finish.model_validate_json(data) if data is not None else None


def kept_map(build: Build) -> LeftMap:
    """Where the rows leave stock: the map that was measured where it is still true, else what they will leave.

    Raises:
        FenrikError: when the part is missing, or picked geometry is lost.
    """
    data = build.store.get(_map_key(build))
    return LeftMap.unpacked(data) if data is not None else predicted_map(build, forecast(build))


def keep_finish(build: Build) -> Finish | None:
    """What stands after all rows, measured once and kept, with its map.

    Raises:
        FenrikError: as `measured_finish`.
    """
    found = kept_finish(build)
    if found is not None:
        return found
    stands = last_standings(build)
    found = _measured(build, stands)
    if found is not None:
        build.store.put(_map_key(build), "left map", measured_map(build, stands).packed())
        build.store.put(finish_key(build), "finish", found.model_dump_json().encode())
    return found


def _map_key(build: Build) -> str:
    return key_of("left map", VERSION, finish=finish_key(build))


def _by_face(off: Mask, face: np.ndarray, area: np.ndarray, thick: np.ndarray) -> dict[int, tuple[float, float]]:
    """Area that is left of each face, and its greatest thickness."""
    found = {}
    for f in np.unique(face[off]).tolist():
        mine = off & (face == f)
        found[f] = float(area[mine].sum()), float(thick[mine].max())
    return {f: left for f, left in found.items() if left[0] >= LEAST_MM2}


def _told(build: Build, found: Forecast, left: dict[int, tuple[float, float]]) -> list[LeftOver]:
    """What is left of faces, the most first, with reasons."""
    numbers, places = build.part_faces, found.surface.places
    setups = [s for s in build.job.setups if not s.makes]
    seen = [found.surface.reach(build, s).seen(places.in_frame(build.frame(s))) for s in setups]
    in_holes = {f for h in build.recognition().holes for f in h.faces}
    told = []
    for face, (area, most) in left.items():
        why, would_do, setup = _reason(build, found, face, list(zip(setups, seen, strict=True)), face in in_holes)
        told.append(
            LeftOver(
                face=numbers[face],
                area_mm2=round(area, 3),
                most_mm=round(most, 4),
                why=why,
                would_do=would_do,
                setup=setup,
            )
        )
    return sorted(told, key=lambda x: -x.area_mm2)


def _reason(
    build: Build, found: Forecast, face: int, sides: list[tuple[Setup, Mask]], in_hole: bool
) -> tuple[str, str, str]:
    """Why some of a face is left, which row would finish it, and in which setup."""
    places = found.surface.places
    own = places.face == face
    area = [float(places.area_mm2[own & seen].sum()) for _, seen in sides]
    if not any(area):
        return "it is not seen from any setup", "", ""
    setup, seen = sides[int(np.argmax(area))]
    mine = own & seen
    up = places.normal[mine] @ build.frame(setup).rotation[:, 2]
    strategy = STRATEGY_FOR[duty_of(float(np.average(up, weights=places.area_mm2[mine])))]
    would = f"{'drilling or bore milling' if in_hole else strategy} from {setup.name or setup.id}"
    if not found.done[own].any():
        return "no row is applied to it that finishes it", would, setup.id
    if max(area) < 0.5 * float(places.area_mm2[own].sum()):
        return "most of it is not seen from any setup", would, setup.id
    return (
        "the tools of its rows do not come to all of it: corners, or too deep",
        f"a smaller or longer tool: {would}",
        setup.id,
    )
