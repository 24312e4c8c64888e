"""The items that a strategy may name, worked out from the document: each with its key and its maker beside it."""

from __future__ import annotations

import hashlib
from dataclasses import asdict
from typing import Any

import numpy as np

from fenrik.core.build.geometry import Geometry
from fenrik.core.build.picks import (
    part_look,
    picked_faces,
    rulings_of_rows,
    sketch_area,
    sketch_look,
    sketch_rings,
    targets_of,
    ways_of,
)
from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.job import Operation, Setup
from fenrik.core.keys import key_of
from fenrik.core.progress import Progress, silent
from fenrik.core.solids.model import Mesh
from fenrik.core.strategies.given import Given, Item, Region
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.tools import Tool

LOOK_VERSION = 1
TOOL_SHAPE = (
    "cutter", "shank_diameter_mm", "neck_diameter_mm", "neck_length_mm", "length_mm", "stick_out_mm", "holder",
)  # fmt: skip
"""What of a tool paths may depend on."""


def given_of(geometry: Geometry, operation: Operation, stock: Item, progress: Progress = silent) -> Given:
    """What the strategy of an operation named.

    Args:
        stock: the stock before the operation.

    Raises:
        FenrikError: when picked geometry is lost.
    """
    items = _Items(geometry, operation, stock)
    needs = STRATEGIES[operation.params.strategy].needs
    return Given({need: getattr(items, need)() for need in needs}, progress)


def safe_over(geometry: Geometry, setup: Setup, instance: int | None) -> float:
    """The height over which stock, fixtures and other copies end; clearance and retract height count from it."""
    highest = float(geometry.placing(setup).stock[1][2])
    obstacles = geometry.obstacles(setup, instance)
    return highest if obstacles is None else max(highest, float(obstacles.bounds()[1][2]))


def _shape(tool: Tool) -> dict[str, Any]:
    return {name: getattr(tool, name) for name in TOOL_SHAPE}


class _Items:
    """One method for each item; keys are cheap, and nothing is made here."""

    def __init__(self, geometry: Geometry, operation: Operation, stock: Item) -> None:
        self.geometry, self.operation, self.before = geometry, operation, stock
        self.setup = geometry.job.setup(operation.setup)
        self.placing = geometry.placing(self.setup)
        self.whole_tool = geometry.job.tool(operation.tool)
        self._look: str | None = None

    def stock(self) -> Item:
        return self.before

    def cutter(self) -> Item:
        return Item(self.whole_tool.cutter, lambda: self.whole_tool.cutter)

    def tool(self) -> Item:
        shape = _shape(self.whole_tool)
        return Item(shape, lambda: Tool(number=1, **shape))

    def reference(self) -> Item:
        number = self.operation.params.reference_tool
        if number is None:
            return Item(None, lambda: None)
        found = next((t for t in self.geometry.job.tools if t.number == number), None)
        if found is None:
            raise fail("params.reference_tool", "is not a tool of this job.", "Choose a tool.", number)
        shape = _shape(found)
        return Item(shape, lambda: Tool(number=1, **shape))

    def feeds(self) -> Item:
        feeds = self.geometry.job.feeds(self.operation)
        return Item(asdict(feeds), lambda: feeds)

    def rpm(self) -> Item:
        rpm = self.geometry.job.rpm(self.operation)
        return Item(rpm, lambda: rpm)

    def safe(self) -> Item:
        heights = [self.setup.clearance_mm, self.setup.retract_mm]

        def make() -> tuple[float, float]:
            over = safe_over(self.geometry, self.setup, self.operation.instance)
            return over + heights[0], over + heights[1]

        return Item([heights, round(float(self.placing.stock[1, 2]), 9), self._around()], make)

    def zero(self) -> Item:
        return Item(np.round(self.geometry.zero(self.setup), 9).tolist(), lambda: self.geometry.zero(self.setup))

    def mesh(self) -> Item:
        within = self.operation.params.mesh_within_mm()
        return Item([self._part(), within], self._mesh)

    def _mesh(self) -> Mesh:
        within = self.operation.params.mesh_within_mm()
        return self.geometry.mesh(self.setup, within, self.operation.instance)

    def surface(self) -> Item:
        within = self.operation.params.mesh_within_mm()
        return Item(
            [self._part(), within], lambda: self.geometry.exact_part(self.setup, within, self.operation.instance)
        )

    def shadow(self) -> Item:
        return Item(self.mesh().key, lambda: self.geometry.shadow(self.setup, self._mesh(), self.operation.instance))

    def part_box(self) -> Item:
        box = self._box()
        return Item(np.round(box, 9).tolist(), lambda: box)

    def _box(self) -> Points:
        if self.operation.instance is None:
            return self.placing.parts
        return self.geometry.instance(self.setup, self.operation.instance).box(self.placing.one_part)

    def solid(self) -> Item:
        frame = self.placing.frame
        where = [self.geometry.solid_key, self.setup.makes, frame.rotation.tolist(), frame.origin.tolist()]
        return Item(where, lambda: (self.placing.part, frame))

    def obstacles(self) -> Item:
        return Item(self._around(), lambda: self.geometry.obstacles(self.setup, self.operation.instance))

    def targets(self) -> Item:
        look = [self._part(), sketch_look(self.geometry, self.operation)]
        return Item(look, lambda: targets_of(self.geometry, self.operation))

    def region(self) -> Item:
        picks = self.operation.params.picks()

        def make() -> Region:
            if picks.faces:
                return Region(faces=self._mesh().of_faces(picked_faces(self.geometry, self.operation)))
            if picks.area:
                return Region(area=sketch_area(self.geometry, self.setup, picks.area))
            return Region()

        return Item([self._part(), sketch_look(self.geometry, self.operation)], make)

    def ways(self) -> Item:
        look = [self._part(), self.solid().key, sketch_look(self.geometry, self.operation, leaning=True)]
        return Item(look, lambda: ways_of(self.geometry, self.operation))

    def rulings(self) -> Item:
        return Item([self._part(), self.solid().key], lambda: rulings_of_rows(self.geometry, self.operation))

    def text(self) -> Item:
        name = self.operation.params.file
        known = hashlib.sha256(self.geometry.file(name)).hexdigest() if name in self.geometry.files else None
        return Item([name, known], lambda: self.geometry.file(name))

    def keep_out(self) -> Item:
        return self._rings(self.operation.params.keep_out)

    def stay_in(self) -> Item:
        return self._rings(self.operation.params.stay_in)

    def _rings(self, sketch: str) -> Item:
        key = sketch_look(self.geometry, self.operation) if sketch else None
        return Item(key, lambda: sketch_rings(self.geometry, self.setup, sketch))

    def _part(self) -> str:
        """What is seen of the part, as a hash, since several items are made from it."""
        if self._look is None:
            params = self.operation.params
            whole = self.setup.id, self.operation.instance, STRATEGIES[params.strategy].sees
            if params.picks().whole and whole in self.geometry.looks:
                return self.geometry.looks[whole]
            self._look = key_of(
                "look",
                LOOK_VERSION,
                faces=part_look(self.geometry, self.operation),
                turn=np.round(self.placing.frame.rotation, 12).tolist(),
                grid=self.setup.grid,
                instance=self.operation.instance,
            )
            if params.picks().whole:
                self.geometry.looks[whole] = self._look
        return self._look

    def _around(self) -> Any:
        """What obstacles are made from; None where there are none."""
        fixtures = [f.model_dump(mode="json") for f in self.setup.fixtures]
        if not fixtures and self.operation.instance is None:
            return None
        return [fixtures, np.round(self.placing.stock, 9).tolist(), self.setup.grid, self.operation.instance]
