"""Edge chamfer: break edges with a conical cutter, keeping clear of walls beside them.

The cone touches the edge a little above its tip. Its tip goes below the chamfer's lower end by the tip offset, and its
axis runs beside the wall at the radius that the cone has at that height: r = tip/2 + offset · tan(included/2).
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import shapely
from pydantic import Field

from fenrik.core.regions import Rings, union
from fenrik.core.regions.polygons import line_length, to_shape
from fenrik.core.sketches import Curve
from fenrik.core.sketches.curve import begun_at
from fenrik.core.strategies.common import ARC_FIT_MM, MM, START_GAP_MM, Outcome, beside_when
from fenrik.core.strategies.declared import Strategy
from fenrik.core.strategies.given import Given
from fenrik.core.strategies.leading import lead_in, lead_out
from fenrik.core.strategies.picked import MillingParams
from fenrik.core.strategies.prismatic import Workplace, need_targets
from fenrik.core.strategies.sides import free_side, offset_chain
from fenrik.core.strategies.targets import Chain
from fenrik.core.toolpath import PathBuilder
from fenrik.core.toolpath.builder import Kind
from fenrik.core.tools import Cutter
from fenrik.core.units import LEAST_STEP_MM

LEAST_PIECE_MM = 0.2
LEAD_MM = 1.0
FLATTEN_MM = 5e-4


class EdgeChamfer(MillingParams):
    """Chamfers and deburrs edges."""

    strategy: Literal["edge chamfer"] = "edge chamfer"
    uses = "chains"
    heights = ()
    width_mm: float = Field(
        default=0.5,
        ge=LEAST_STEP_MM,
        le=50,
        title="Width",
        description="Seen from above; modelled chamfers keep theirs",
        json_schema_extra=MM,
    )
    tip_offset_mm: float = Field(
        default=0.3,
        ge=0,
        le=20,
        title="Tip offset",
        description="How far the tip goes below the chamfer",
        json_schema_extra=MM,
    )
    width_passes: int = Field(default=1, ge=1, le=20, title="Passes", description="For wide chamfers")


def edge_chamfer(given: Given, params: EdgeChamfer) -> Outcome:
    """All edges; stretches with a wall in the way are left out and reported, the others are cut.

    Raises:
        FenrikError: when nothing is picked.
    """
    cutter = given.cutter
    included = getattr(cutter, "included_deg", getattr(cutter, "point_deg", 90.0))
    place = Workplace.of(given)
    need_targets(given.targets.chains, given, "edge", "Pick edges, or chamfer faces.")
    builder = place.builder()
    builder.beside = beside_when(params.milling)
    slope = math.tan(math.radians(float(included) / 2))
    tip = getattr(cutter, "tip_diameter_mm", 0.0) / 2
    for number, chain in enumerate(given.targets.chains):
        for k in range(params.width_passes):
            width = params.width_mm * (k + 1) / params.width_passes
            _break_edge(builder, place, params, chain, width, slope, tip)
        given.progress((number + 1) / len(given.targets.chains), "chamfering edges")
    return Outcome(builder.finish(), place.unreached)


def _break_edge(
    builder: PathBuilder, place: Workplace, params: EdgeChamfer, chain: Chain, width: float, slope: float, tip: float
) -> None:
    side = {"left": "right", "right": "left"}.get(chain.below or chain.material)
    if side is None:
        place.skip(
            chain.label, "there is no part on just one side of it.", chain.place, "Pick outer edges that look upwards."
        )
        return
    lower = chain.level - (0.0 if chain.rim else width / slope)
    z = lower - params.tip_offset_mm - params.floor_allowance_mm
    beside = tip + params.tip_offset_mm * slope + params.allowance_mm
    if z < chain.level - place.given.cutter.flute_length_mm:
        place.skip(chain.label, "is deeper than the cutter's edge is long.", chain.place, "Use a larger chamfer mill.")
        return
    blocked = _in_the_way(place, chain, z, beside)
    builder.radius_mm = beside + width
    for curve in offset_chain(chain.curve, side, beside):
        why = "a wall or floor beside the edge, a keep-out or the boundary leaves no room"
        runs = place.free_pieces(curve, blocked, chain.label, chain.level, "chamfer", why)
        for run in runs:
            if line_length(run.flattened(0.01)) > LEAST_PIECE_MM:
                _cut_edge(builder, place, params, run, side, z, blocked)


def _in_the_way(place: Workplace, chain: Chain, z: float, beside: float) -> Rings:
    """Where the axis may not be: nearer to what stands over the edge than the cutter's radius, nearer to what stands
    over the tip than the cone is wide there."""
    tall = place.blocked(chain.level + 0.02, place.radius, shaped=False)
    low = place.shadow.cover(z).grown(beside - 3 * ARC_FIT_MM) if beside > 3 * ARC_FIT_MM else []
    return union(tall, low)


def _cut_edge(
    builder: PathBuilder, place: Workplace, params: EdgeChamfer, run: Curve, side: str, z: float, blocked: Rings
) -> None:
    free, right_way = free_side(run, side, params.milling)
    run = run if right_way else run.reversed()
    way = begun_at(run, 0.0, 0.5) if run.closed else run
    around = way.flattened(0.05)
    ground = shapely.box(*(around.min(axis=0) - 5 * LEAD_MM), *(around.max(axis=0) + 5 * LEAD_MM)).difference(
        to_shape(blocked)
    )
    shapely.prepare(ground)
    first, last = (lead(way, LEAD_MM, 90.0, ground, free) for lead in (lead_in, lead_out))
    begin = first.points[0] if first is not None else way.points[0]
    reach = np.full(2, place.radius)
    stands = max(place.anchors.stock_over(begin - reach, begin + reach), z)
    builder.travel(float(begin[0]), float(begin[1]), stands + START_GAP_MM)
    builder.enter(np.array([*begin, z]))
    if first is not None:
        builder.follow(first, Kind.ENTRY)
    builder.next_pass()
    builder.follow(way, Kind.CUT)
    if last is not None:
        builder.follow(last, Kind.EXIT)


def _broken_edge(params: EdgeChamfer, cutter: Cutter) -> float:
    """Edges that the model has sharp are broken into it; chamfers that it has are not."""
    return 0.0 if all(t.kind == "faces" for t in params.targets) else params.width_mm


STRATEGY = Strategy(
    params=EdgeChamfer,
    run=edge_chamfer,
    version=6,
    group="Edges and marks",
    cutters=("chamfer mill", "spot drill", "drill", "engraving"),
    meant_depth_mm=_broken_edge,
    stage=7,
    of_diameter={"stepdown_mm": 0.4},
    finishes=lambda params: ("edge",),
)
