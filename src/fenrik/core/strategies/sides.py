"""On which side of a chain the tool runs, at what distance, and which way."""

from __future__ import annotations

import numpy as np
import shapely

from fenrik.core.regions import fit_arcs, offset
from fenrik.core.regions.polygons import Rings, signed_area
from fenrik.core.sketches import Curve
from fenrik.core.strategies.common import ARC_FIT_MM
from fenrik.core.strategies.leading import Side
from fenrik.core.strategies.prismatic import FLATTEN_MM, LEAST_PIECE_MM
from fenrik.core.strategies.targets import Chain


def tool_side(wanted: str, chain: Chain) -> str | None:
    """left, right or on, seen along the chain; None where automatic cannot tell."""
    if wanted == "on the curve":
        return "on"
    if wanted in ("left", "right"):
        return wanted
    if wanted in ("inside", "outside"):
        if not chain.curve.closed:
            return None
        anticlockwise = signed_area(chain.curve.flattened(0.01)[:-1]) > 0
        return "left" if (wanted == "inside") == anticlockwise else "right"
    return {"left": "right", "right": "left"}.get(chain.material)


def offset_chain(curve: Curve, side: str, distance_mm: float, sharp: bool = False) -> list[Curve]:
    """A chain at a distance on its left or right (below zero: on the other side); closed ones as polygons, so nothing
    crosses itself."""
    if side == "on" or distance_mm == 0:
        return [curve]
    if curve.closed:
        ring = curve.flattened(FLATTEN_MM)[:-1]
        anticlockwise = signed_area(ring) > 0
        grown = distance_mm if (side == "right") == anticlockwise else -distance_mm
        region: Rings = [ring if anticlockwise else ring[::-1]]
        rings = offset(region, grown, sharp=sharp)
        found = [fit_arcs(r, True, ARC_FIT_MM) for r in rings]
        return [c if (signed_area(r) > 0) == anticlockwise else c.reversed() for c, r in zip(found, rings, strict=True)]
    line = shapely.LineString(curve.flattened(FLATTEN_MM))
    signed = distance_mm if side == "left" else -distance_mm
    segments = max(int(np.ceil(np.pi / 4 / np.arccos(max(1 - FLATTEN_MM / abs(distance_mm), 0.0)))), 4)
    style = "mitre" if sharp else "round"
    moved = shapely.offset_curve(line, signed, quad_segs=segments, join_style=style)
    parts = [shapely.get_coordinates(p) for p in shapely.get_parts(moved) if p.length > LEAST_PIECE_MM]
    return [fit_arcs(p, False, ARC_FIT_MM) for p in parts]


def free_side(curve: Curve, side: str, milling: str) -> tuple[Side, bool]:
    """The side without material once the curve runs the right way, and whether it does so already.

    With a spindle that turns clockwise, climb milling has the material on the right.
    """
    if side == "on":
        return "left", True
    wanted: Side = "left" if milling == "climb" else "right"
    return wanted, side == wanted


def running_against(chains: list[Chain], side: str) -> set[int]:
    """Of chains with the tool on their left or right, those that run against the others: closed ones by the sense of
    the longer part of them, those of the part also where it stands on the tool's side."""
    if side not in ("left", "right"):
        return set()
    wrong = {k for k, c in enumerate(chains) if c.material == side}
    turns = {k: signed_area(c.curve.flattened(0.01)[:-1]) > 0 for k, c in enumerate(chains) if c.curve.closed}
    length = {True: 0.0, False: 0.0}
    for k, turn in turns.items():
        length[turn] += chains[k].curve.length_mm()
    return wrong | {k for k, turn in turns.items() if length[turn] < length[not turn]}
