"""From features to a route, what a route leaves out, and in which order it runs with fewer tool changes."""

from fenrik.core.planning.coverage import Coverage, Uncovered, coverage
from fenrik.core.planning.finish import (
    Finish,
    LeftOver,
    keep_finish,
    kept_finish,
    kept_map,
    measured_finish,
    predicted_finish,
)
from fenrik.core.planning.first import FirstSetup, first_setup
from fenrik.core.planning.holes import make_holes
from fenrik.core.planning.reorder import Reordering, propose_order
from fenrik.core.planning.route import RouteProposal, propose_route, with_route
from fenrik.core.planning.sides import propose_for, propose_sides

__all__ = [
    "Coverage",
    "Finish",
    "FirstSetup",
    "LeftOver",
    "Reordering",
    "RouteProposal",
    "Uncovered",
    "coverage",
    "first_setup",
    "keep_finish",
    "kept_finish",
    "kept_map",
    "make_holes",
    "measured_finish",
    "predicted_finish",
    "propose_for",
    "propose_order",
    "propose_route",
    "propose_sides",
    "with_route",
]
