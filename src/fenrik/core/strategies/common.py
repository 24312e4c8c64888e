"""What all strategies share: outcome, and the fields that every operation has."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from fenrik.core.cutting.speeds import Beside
from fenrik.core.errors import FenrikError, Problem, fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.solids.references import EdgeReference, FaceReference, FaceRule
from fenrik.core.stock import Stock
from fenrik.core.strategies.targets import Targets
from fenrik.core.toolpath import Toolpath

MM: dict[str, Any] = {"unit": "mm"}
START_GAP_MM = 1.0
ARC_FIT_MM = 2e-3
"""How far fitted arcs may stray from the offset polygons."""
TESSELLATION_SHARE = 0.25
"""Share of an operation's tolerance that the triangles may use; sampling and simplifying share the rest."""
End = Literal["top", "bottom"]


@dataclass(frozen=True)
class Picks:
    """What parameters name of the model and of sketches, each with its field among the parameters.

    Attributes:
        area: the sketch, among those, that the axis stays over.
        whole: the path may depend on more of the part than lies near these faces and edges.
    """

    faces: list[tuple[str, FaceReference | FaceRule]] = field(default_factory=list)
    edges: list[tuple[str, EdgeReference]] = field(default_factory=list)
    sketches: list[str] = field(default_factory=list)
    area: str = ""
    whole: bool = True


class FenceParams(BaseModel):
    """Sketches that fence the tool."""

    keep_out: str = Field(
        default="", max_length=40, title="Keep out", description="A sketch; the tool stays out of its closed curves"
    )
    stay_in: str = Field(
        default="", max_length=40, title="Stay inside", description="A sketch; the axis stays in its closed curves"
    )

    def fences(self) -> list[str]:
        """The sketches that are named."""
        return [i for i in (self.keep_out, self.stay_in) if i]


@dataclass(frozen=True)
class Level:
    """A height that an operation cuts at: its name, where it is in the setup's frame, and what it is counted from."""

    end: End
    level_mm: float
    counted_from: str


@dataclass(frozen=True)
class Anchors:
    """What heights are counted from, in the setup's frame; picked faces are resolved before.

    Attributes:
        stock_over: highest stock over a rectangle (low, high corner).
    """

    stock_over: Callable[[Points, Points], float]
    stock_top: float
    stock_bottom: float
    part_bottom: float
    part_top: float
    zero: float


class CommonParams(BaseModel):
    """Fields of every milling operation.

    Each class of parameters names in `FOLDED` those of its own that forms show only when asked.
    """

    FOLDED: ClassVar[tuple[str, ...]] = (
        "floor_allowance_mm",
        "tolerance_mm",
    )

    model_config = ConfigDict(extra="forbid")
    idle: ClassVar[tuple[str, ...]] = ()
    """Fields that mean nothing to the strategy, so that no form shows them."""
    declared: ClassVar[dict[str, Any]] = {}
    """What the strategy says of itself to menus and forms, told with the schema."""

    @classmethod
    def __get_pydantic_json_schema__(cls, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        schema = handler.resolve_ref_schema(handler(core))
        for name in cls.idle:
            schema["properties"][name]["idle"] = True
        return schema | cls.declared

    def picks(self) -> Picks:
        """What of model and sketches these parameters name."""
        return Picks()

    @classmethod
    def on_faces(cls, faces: list[FaceReference]) -> dict[str, Any]:
        """The fields by which a row is applied to faces."""
        return {"targets": [{"kind": "faces", "faces": faces}]}

    def mesh_within_mm(self) -> float:
        """How near to the exact surface triangles must be for the path."""
        return self.tolerance_mm * TESSELLATION_SHARE

    def absolute(self, zero: float, level_of: Callable[[End], float]) -> Self:
        """The same without what only the setup can tell: heights over the work zero, heights at picked faces.

        Args:
            zero: height of the work zero. level_of: height of the faces picked for an end, in the setup's frame.
        """
        return self

    def levels(self, anchors: Anchors, targets: Callable[[], Targets]) -> list[Level]:
        """The highest top and the lowest bottom of what these parameters (absolute ones) cut, where they say so."""
        return []

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
    """A path and what it could not reach; or an empty one, and why nothing could be computed."""

    toolpath: Toolpath
    unreached: list[Unreached] = field(default_factory=list)
    failed: list[Problem] = field(default_factory=list)

    @property
    def why(self) -> str:
        """Why nothing could be computed, in words; empty where it could."""
        return str(FenrikError(*self.failed))


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


def beside_when(milling: str) -> Beside:
    """The side on which a tool cuts: with a spindle that turns clockwise, climb milling has the material right."""
    return "right" if milling == "climb" else "left"


def require(condition: bool, name: str, message: str, way_out: str, value: object = None) -> None:
    """Raise a clear error about a parameter unless a condition holds."""
    if not condition:
        raise fail(name, message, way_out, value)


def to_points(xy: Points, z: float) -> Points:
    """Plane points (n, 2) at one height, (n, 3)."""
    return np.column_stack([xy, np.full(len(xy), z)])
