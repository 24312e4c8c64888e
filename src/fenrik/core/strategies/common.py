"""What all strategies share: inputs, outcome, and the fields that every operation has."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import DropIndex
from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.progress import Progress, silent
from fenrik.core.regions import Rings, Shadow
from fenrik.core.setups.grids import join_meshes
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import Stock
from fenrik.core.strategies.targets import Targets
from fenrik.core.toolpath import Feeds, PathBuilder, Toolpath
from fenrik.core.tools import Tool, cutting_profile

MM: dict[str, Any] = {"unit": "mm"}
START_GAP_MM = 1.0
TESSELLATION_SHARE = 0.25
"""Share of an operation's tolerance that the triangles may use; sampling and simplifying share the rest."""


class CommonParams(BaseModel):
    """Fields of every milling operation."""

    model_config = ConfigDict(extra="forbid")
    declared: ClassVar[dict[str, Any]] = {}
    """What the strategy says of itself to menus and forms, told with the schema."""

    @classmethod
    def __get_pydantic_json_schema__(cls, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        schema = handler.resolve_ref_schema(handler(core))
        return schema | cls.declared

    allowance_mm: float = Field(
        default=0.0,
        ge=0,
        le=50,
        title="Wall allowance",
        description="Stock left on purpose on walls",
        json_schema_extra=MM,
    )
    floor_allowance_mm: float = Field(
        default=0.0,
        ge=0,
        le=50,
        title="Floor allowance",
        description="Stock left on purpose on floors",
        json_schema_extra=MM,
    )
    tolerance_mm: float = Field(
        default=0.02,
        ge=0.0005,
        le=1.0,
        title="Tolerance",
        description="How far the path may stray from the exact surface",
        json_schema_extra=MM,
    )


OBSTACLE_CLEARANCE_MM = 0.5
"""How far the cutter keeps from fixtures and other copies; more than the tolerance of a path."""


@dataclass(frozen=True)
class StrategyInputs:
    """Everything a strategy may look at; all in the setup's frame (z up), mm.

    Attributes:
        mesh: the part within the operation's share of tolerance.
        boundary_mesh: the triangles of the picked faces, where the operation has a boundary of faces.
        boundary_area: polygons, where the operation has a boundary from a sketch.
        obstacles: what else the tool must not touch: fixtures, other copies.
        stock: the stock before the operation.
        tool, feeds: the tool and the feeds it runs at.
        clearance_mm, retract_mm: absolute heights for rapids.
        rpm: spindle speed. zero: place of the work zero.
        targets: what the operation is applied to. shadow: of the mesh, where it was made before.
        keep_out: a region that the tool stays out of. stay_in: one that its axis stays in; empty: anywhere.
    """

    mesh: Mesh
    stock: Stock
    tool: Tool
    feeds: Feeds
    clearance_mm: float
    retract_mm: float
    boundary_mesh: Mesh | None = None
    progress: Progress = field(default=silent)
    boundary_area: BaseGeometry | None = None
    obstacles: Mesh | None = None
    rpm: float = 8000.0
    zero: tuple[float, float, float] = (0.0, 0.0, 0.0)
    targets: Targets = field(default_factory=Targets)
    shadow: Shadow | None = None
    keep_out: Rings = field(default_factory=list)
    stay_in: Rings = field(default_factory=list)

    def builder(self) -> PathBuilder:
        return PathBuilder(self.feeds, self.clearance_mm, self.retract_mm)

    def drop_index(self, allowance_mm: float) -> DropIndex:
        """The part and the obstacles made ready for this tool grown by an allowance."""
        mesh = self.mesh if self.obstacles is None else join_meshes([self.mesh, self.grown_obstacles()])
        return DropIndex.build(mesh, cutting_profile(self.tool.cutter), allowance_mm)

    def grown_obstacles(self) -> Mesh:
        """The obstacles moved to four sides and up, together: to a tool from above they are larger by the clearance."""
        assert self.obstacles is not None
        c = OBSTACLE_CLEARANCE_MM
        steps = [np.array([x, y, c]) for x in (-c, c) for y in (-c, c)]
        return join_meshes([replace(self.obstacles, vertices=self.obstacles.vertices + step) for step in steps])


def held_back(place: tuple[float, float, float], area_mm2: float) -> Unreached:
    """A place that stays uncut because the cutter keeps clear of an obstacle."""
    return Unreached(
        reason="A fixture or another copy keeps the cutter away.",
        place=place,
        level_mm=place[2],
        area_mm2=area_mm2,
        advice="Move the fixture, or machine the place in another setup.",
    )


@dataclass(frozen=True)
class Outcome:
    """A path and what it could not reach."""

    toolpath: Toolpath
    unreached: list[Unreached] = field(default_factory=list)


class StockTops:
    """Height of the stock under a tool, for safe rapids."""

    def __init__(self, stock: Stock) -> None:
        self.tops = stock.tops()
        self.origin = np.array(stock.lattice.origin)
        self.cell = stock.lattice.cell_mm

    @property
    def highest(self) -> float:
        return float(self.tops.max(initial=-np.inf))

    def over(self, low: Points, high: Points) -> float:
        """Highest stock over a rectangle, given by its corners; −inf where there is none."""
        shape = np.array(self.tops.shape)
        a = np.floor((low - self.origin[:2]) / self.cell).astype(int).clip(0, shape)
        b = (np.ceil((high - self.origin[:2]) / self.cell).astype(int) + 1).clip(0, shape)
        if np.any(a >= b):
            return -np.inf
        return float(self.tops[a[0] : b[0], a[1] : b[1]].max(initial=-np.inf))

    def under(self, x: float, y: float, radius_mm: float) -> float:
        """Highest material within `radius_mm` (and a cell) of a place; −inf where there is none."""
        reach = radius_mm + self.cell
        i0, i1 = (
            int(np.clip(v, 0, self.tops.shape[0]))
            for v in (
                np.floor((x - reach - self.origin[0]) / self.cell),
                np.ceil((x + reach - self.origin[0]) / self.cell) + 1,
            )
        )
        j0, j1 = (
            int(np.clip(v, 0, self.tops.shape[1]))
            for v in (
                np.floor((y - reach - self.origin[1]) / self.cell),
                np.ceil((y + reach - self.origin[1]) / self.cell) + 1,
            )
        )
        if i0 >= i1 or j0 >= j1:
            return -np.inf
        gx = self.origin[0] + self.cell * np.arange(i0, i1) - x
        gy = self.origin[1] + self.cell * np.arange(j0, j1) - y
        near = gx[:, None] ** 2 + gy[None, :] ** 2 <= reach * reach
        return float(np.where(near, self.tops[i0:i1, j0:j1], -np.inf).max())


def require(condition: bool, name: str, message: str, way_out: str, value: object = None) -> None:
    """Raise a clear error about a parameter unless a condition holds."""
    if not condition:
        raise fail(name, message, way_out, value)


def to_points(xy: Points, z: float) -> Points:
    """Plane points (n, 2) at one height, (n, 3)."""
    return np.column_stack([xy, np.full(len(xy), z)])
