"""The cut stock's surface against the exact part."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from fenrik.core.contact.distance import signed_distances
from fenrik.core.frames import Points
from fenrik.core.proof.loads import LoadSummary
from fenrik.core.proof.run import Run
from fenrik.core.toolpath import Kind

FLATTEN_MM = 0.002
"""Places that are worked on at one time."""
ROUNDING_MM = 1e-6
BINS = 61


class Deviation(BaseModel):
    """The cut stock's surface against the part, signed: above 0 material is left, below 0 it was cut too deep."""

    min_mm: float
    max_mm: float
    within_tolerance_fraction: float
    error_bound_mm: float
    cell_mm: float
    edges_mm: list[float]
    counts: list[int]


class OperationResult(BaseModel):
    """What the surfaces that an operation made show."""

    worst_gouge_mm: float
    worst_excess_mm: float
    peak_engagement_deg: float
    bound_mm: float = 0.0
    load: LoadSummary | None = None


def _summarised(distance: Points, band: float, bound: float, cell: float) -> Deviation:
    """Extremes, share in the band, and a histogram over ±5 bands (the outer bins take what lies beyond)."""
    edges = np.linspace(-5 * band, 5 * band, BINS + 1)
    counts, _ = np.histogram(np.clip(distance, edges[0], edges[-1]), edges)
    inside = float(np.mean(np.abs(distance) <= band))
    return Deviation(
        min_mm=float(distance.min()),
        max_mm=float(distance.max()),
        within_tolerance_fraction=inside,
        error_bound_mm=bound,
        cell_mm=cell,
        edges_mm=edges.tolist(),
        counts=counts.tolist(),
    )


@dataclass(frozen=True)
class Compared:
    """Places of the cut surface against the part.

    Attributes:
        places: (n, 3). distance, bound: (n,) signed, and how far off each may be.
        known: (n,) where inside and outside can be told.
        motion: (n,) motion that made the place, −1 for the stock as it came. operation: (n,) likewise.
    """

    places: Points
    distance: Points
    bound: Points
    known: NDArray[np.bool_]
    motion: NDArray[np.int32]
    operation: NDArray[np.int32]


def compared(run: Run) -> Compared:
    """Every place of the cut surface, with its distance to the exact part."""
    owners, operations = run.owners.astype(np.int32), run.motions.operation
    other = run.stock.error_mm + FLATTEN_MM + ROUNDING_MM
    pieces: list[tuple[NDArray[Any], ...]] = []
    for places, _, sources in run.stock.hits_by_tile():
        found = signed_distances(run.inputs.part, places)
        motion = np.full(len(places), -1, np.int32)
        made = sources >= 0
        motion[made] = owners[sources[made]]
        operation = np.where(made, operations[motion] if len(operations) else -1, -1).astype(np.int32)
        pieces.append((places, found.mm, found.bound_mm + other, found.known, motion, operation))
    return Compared(*(np.concatenate(column) for column in zip(*pieces, strict=True)))


def deviation_of(run: Run, surface: Compared) -> Deviation:
    """The whole surface in one summary."""
    cell, known = run.stock.lattice.cell_mm, surface.known
    if not known.any():
        return Deviation(
            min_mm=0.0,
            max_mm=0.0,
            within_tolerance_fraction=1.0,
            error_bound_mm=float(surface.bound.max(initial=0.0)),
            cell_mm=cell,
            edges_mm=[],
            counts=[],
        )
    bound = float(surface.bound[known].max())
    return _summarised(surface.distance[known], run.inputs.settings.band_mm, bound, cell)


def results_of(run: Run, surface: Compared) -> dict[int, OperationResult]:
    """Worst gouge, worst excess and peak engagement of each operation."""
    if not surface.known.any():
        return {}
    results = {}
    for number in run.inputs.tolerances:
        mine = surface.distance[(surface.operation == number) & surface.known]
        working = (run.motions.operation == number) & (run.motions.path.kind == Kind.CUT)
        results[number] = OperationResult(
            worst_gouge_mm=max(float(-mine.min(initial=0.0)), 0.0),
            worst_excess_mm=max(float(mine.max(initial=0.0)), 0.0),
            peak_engagement_deg=float(run.engagement_deg[working].max(initial=0.0)),
            bound_mm=float(surface.bound[(surface.operation == number) & surface.known].max(initial=0.0)),
            load=run.inputs.loads.get(number),
        )
    return results
