"""Plunge roughing: clear deep hollows along the axis, where a long tool bends sideways but not lengthwise.

The tool goes down over a grid of places, each time from the stock to where part, holder and fixtures let its tip come,
and straight up again. Each plunge but the first lies beside one before it, so that
it takes no more than its step (the radial width of cut of plunge milling; Al-Ahmad, d'Acunto, Lescalier and Bomont,
2007). Where stock is open the first one is there; else it is where there is most depth, and the tool must be centre
cutting.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field
from scipy import ndimage

from fenrik.core.contact.drop import tip_heights_grid
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.strategies.common import MM, START_GAP_MM, Outcome, StockTops, require
from fenrik.core.strategies.declared import Strategy, mills
from fenrik.core.strategies.given import ON_SURFACE, Given
from fenrik.core.strategies.ground.held_up import kept_up
from fenrik.core.strategies.ground.level_ground import FRESH, LEAD_MM, HeightParams, fence_of, over_faces
from fenrik.core.strategies.linking import Landscape, skimming_builder
from fenrik.core.toolpath import Toolpath
from fenrik.core.units import LEAST_STEP_MM

LEAST_DEPTH_MM = 0.5
"""A plunge that would take less is left out."""
MOST_PLACES = 20_000
OPEN_SHARE = 0.5
"""Where nothing stands within this share of the radius round its axis, the tool need not cut with its middle."""
TELL_MM = 0.05
BESIDE = ((1, 0), (-1, 0), (0, 1), (0, -1), (1, 1), (1, -1), (-1, 1), (-1, -1))

Node = tuple[int, int]
"""A place of the grid."""


class PlungeRoughing(HeightParams):
    """Clears deep hollows with strokes along the axis, beside one another."""

    strategy: Literal["plunge roughing"] = "plunge roughing"
    step_mm: float = Field(
        ge=LEAST_STEP_MM, le=200, title="Step", description="From plunge to plunge: the width that one takes",
        json_schema_extra=MM,
    )  # fmt: skip
    stepover_mm: float = Field(
        ge=LEAST_STEP_MM, le=300, title="Stepover", description="From row to row of plunges", json_schema_extra=MM
    )


@dataclass(frozen=True)
class _Grid:
    """Places of plunges.

    Attributes:
        x, y: their lines. tip: (nx, ny) how deep the whole tool may come there. alone: the same for the cutter alone.
        stands: the highest stock under the cutter. inner: the same under its middle. wanted: where it takes enough.
    """

    x: Points
    y: Points
    tip: Points
    alone: Points
    stands: Points
    inner: Points
    wanted: NDArray[np.bool_]

    def at(self, node: Node) -> Points:
        return np.array([self.x[node[0]], self.y[node[1]], self.tip[node]])


def plunge_roughing(given: Given, params: PlungeRoughing) -> Outcome:
    """Roughing by plunges.

    Raises:
        FenrikError: for steps wider than the tool, a bottom over the top, or far too many places.
    """
    for name in ("step_mm", "stepover_mm"):
        require(
            getattr(params, name) <= given.cutter.diameter_mm,
            name,
            f"is wider than the tool ({given.cutter.diameter_mm:g} mm).",
            f"Use at most {0.7 * given.cutter.diameter_mm:.3g} mm.",
            getattr(params, name),
        )
    grid = _grid(given, params)
    if grid is None or not grid.wanted.any():
        return Outcome(given.builder().finish(), [])
    order, told = _in_order(given, grid)
    return Outcome(_written(given, grid, order), [*told, *_held_up(given, params, grid)])


def _grid(given: Given, params: PlungeRoughing) -> _Grid | None:
    """The grid over the stock; None where none stands over the bottom."""
    tops = StockTops(given.stock)
    bottom = params.bottom_mm if params.bottom_mm is not None else float(given.mesh.bounds()[0, 2])
    require(
        params.top_mm is None or bottom < params.top_mm,
        "bottom_mm",
        "lies above the top.",
        "Exchange top and bottom.",
        bottom,
    )
    if not np.isfinite(tops.highest) or tops.highest <= bottom:
        return None
    low = np.array(tops.origin[:2])
    size = tops.cell * (np.array(tops.tops.shape) - 1)
    count = np.ceil(size / (params.step_mm, params.stepover_mm)).astype(int) + 1
    require(
        int(count.prod()) <= MOST_PLACES,
        "step_mm",
        f"makes {int(count.prod())} places; {MOST_PLACES} are looked at.",
        "Use wider steps, or clear the place in levels.",
        params.step_mm,
    )
    x, y = (low[a] + 0.5 * (size[a] - (count[a] - 1) * s) + s * np.arange(count[a])
            for a, s in enumerate((params.step_mm, params.stepover_mm)))  # fmt: skip
    given.progress(0.05, "finding how deep the tool comes")
    heights = [
        np.maximum(np.where(np.isfinite(z), z, bottom) + params.floor_allowance_mm, bottom)
        for z in (
            tip_heights_grid(index, x, y, bottom - 1.0)
            for index in (given.whole_tool_index(params.allowance_mm), given.drop_index(params.allowance_mm))
        )
    ]
    given.progress(0.5, "finding what stands")
    # What is thinner than a cell at the rim is no more than the error of the stock.
    stands = _under(tops, x, y, max(given.cutter.radius_mm - tops.cell, OPEN_SHARE * given.cutter.radius_mm))
    inner = _under(tops, x, y, OPEN_SHARE * given.cutter.radius_mm)
    wanted = stands - heights[0] > LEAST_DEPTH_MM
    if params.top_mm is not None:
        wanted &= stands <= params.top_mm + tops.cell
    fence = fence_of(given, params)
    near = over_faces(given, np.inf, given.cutter.radius_mm + params.allowance_mm + LEAD_MM)
    for i, j in np.argwhere(wanted):
        place = shapely.Point(x[i], y[j])
        wanted[i, j] = near(place) and (fence is None or fence.covers(place))
    return _Grid(x, y, heights[0], heights[1], stands, inner, wanted)


def _under(tops: StockTops, x: Points, y: Points, radius_mm: float) -> Points:
    """The highest stock within a radius of each place, (nx, ny); −inf where there is none."""
    reach = int(np.ceil(radius_mm / tops.cell))
    i, j = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    disc = np.hypot(i, j) * tops.cell <= radius_mm
    padded = np.pad(tops.tops, reach + 1, constant_values=-np.inf)
    highest = ndimage.maximum_filter(padded, footprint=disc, mode="constant", cval=-np.inf)
    rows, columns = (
        np.clip(np.rint((line - o) / tops.cell).astype(int) + reach + 1, 0, n - 1)
        for line, o, n in zip((x, y), tops.origin, highest.shape, strict=False)
    )
    return np.asarray(highest[np.ix_(rows, columns)])


def _in_order(given: Given, grid: _Grid) -> tuple[list[Node], list[Unreached]]:
    """Places in the order in which they are gone to, and where there is no beginning."""
    beside = ndimage.minimum_filter(grid.inner, 3, mode="constant", cval=np.inf)
    open_ = grid.wanted & (beside <= grid.tip + LEAST_DEPTH_MM)
    labels, count = ndimage.label(grid.wanted, np.ones((3, 3)))
    order: list[Node] = []
    told = []
    for label in range(1, count + 1):
        mine = labels == label
        starts = mine & open_
        if starts.any():
            first = tuple(np.argwhere(starts)[0].tolist())
        elif given.cutter.centre_cutting:
            depth = np.where(mine, ndimage.distance_transform_edt(mine) + 1e-3 * (grid.stands - grid.tip), -np.inf)
            first = tuple(np.argwhere(depth == depth.max())[0].tolist())
        else:
            told.append(_no_beginning(grid, mine))
            continue
        order += _outwards(grid, mine, starts, (first[0], first[1]))
    return order, told


def _outwards(grid: _Grid, mine: NDArray[np.bool_], starts: NDArray[np.bool_], first: Node) -> list[Node]:
    """All places of a piece from its first one on, each beside one before it, and near to the last."""
    done = ~mine
    ready = {first, *((i, j) for i, j in np.argwhere(starts).tolist())}
    order, last = [], first
    while ready:
        node = min(ready, key=lambda n: (abs(grid.x[n[0]] - grid.x[last[0]]) + abs(grid.y[n[1]] - grid.y[last[1]]), n))
        ready.remove(node)
        order.append(node)
        done[node], last = True, node
        for di, dj in BESIDE:
            other = node[0] + di, node[1] + dj
            if 0 <= other[0] < len(grid.x) and 0 <= other[1] < len(grid.y) and not done[other]:
                ready.add(other)
    return order


def _no_beginning(grid: _Grid, mine: NDArray[np.bool_]) -> Unreached:
    depth = np.where(mine, grid.stands - grid.tip, -np.inf)
    i, j = np.unravel_index(int(depth.argmax()), depth.shape)
    cell = float((grid.x[1] - grid.x[0]) * (grid.y[1] - grid.y[0])) if min(depth.shape) > 1 else 0.0
    return Unreached(
        reason="The place is closed all round, and the tool does not cut with its middle.",
        place=(float(grid.x[i]), float(grid.y[j]), float(grid.tip[i, j])),
        level_mm=float(grid.tip[i, j]),
        area_mm2=float(mine.sum() * cell),
        advice="Use a centre-cutting tool, or drill a hole to start in.",
    )


def _held_up(given: Given, params: PlungeRoughing, grid: _Grid) -> list[Unreached]:
    """Where shank or holder keep the cutter from coming as deep as it could, with volume and what would do."""
    over = np.where(grid.wanted, np.minimum(grid.tip, grid.stands) - grid.alone, 0.0)
    if over.max(initial=0.0) <= TELL_MM:
        return []
    i, j = np.unravel_index(int(over.argmax()), over.shape)
    most, volume = float(over.max()), float(over[over > TELL_MM].sum()) * params.step_mm * params.stepover_mm
    place = (float(grid.x[i]), float(grid.y[j]), float(grid.tip[i, j]))
    return [kept_up(place, most, volume, given.tool.stick_out_mm + most)]


def _written(given: Given, grid: _Grid, order: list[Node]) -> Toolpath:
    """The motions."""
    builder = skimming_builder(given, Landscape(given))
    tops = StockTops(given.stock)
    for number, node in enumerate(order):
        place = grid.at(node)
        top = tops.under(float(place[0]), float(place[1]), given.cutter.radius_mm)
        builder.travel(float(place[0]), float(place[1]), top + START_GAP_MM)
        builder.next_pass()
        builder.cut_at(place, given.feeds.entry)
        if number % 200 == 0:
            given.progress(0.5 + 0.5 * number / len(order), f"plunge {number + 1} of {len(order)}")
    return builder.finish()


STRATEGY = Strategy(
    params=PlungeRoughing,
    run=plunge_roughing,
    version=2,
    group="Free shapes",
    needs=(*ON_SURFACE, "tool", "region", "keep_out", "stay_in"),
    cutters=mills("flat", "bull-nose"),
    stage=1,
    everywhere=True,
    makes=lambda params: "nothing",
    left_to="rest roughing",
    fresh=FRESH,
    of_diameter={"step_mm": 0.3, "stepover_mm": 0.5},
)
