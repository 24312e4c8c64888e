"""The job document: everything the programmer decides and nothing that is computed."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from fenrik.core.copies import Copies
from fenrik.core.cutting.materials import Material
from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.machines import Machine
from fenrik.core.proof import ProofSettings
from fenrik.core.recipe import HoleChoice, Recipe
from fenrik.core.robots import ArmWishes, Cell, machine_of_cell
from fenrik.core.setups.fixtures import BodyFixture, Fixture
from fenrik.core.setups.grids import Grid
from fenrik.core.setups.orientation import Up, UpAxis, oriented_frame
from fenrik.core.setups.stocks import BodyStock, BoxStock, StockList, StockShape
from fenrik.core.sketches import Sketch
from fenrik.core.solids import EdgeReference, Selector, Solid
from fenrik.core.strategies.registry import StrategyParams
from fenrik.core.toolpath import Feeds
from fenrik.core.tools import Tool
from fenrik.core.units import LEAST_FEED_MM_MIN, LEAST_SPINDLE_RPM, LEAST_STEP_MM

FORMAT = "fenrik-job"
VERSION = 1
POINT_MATCH_MM = 0.01
PLAIN_OFFSETS, EXTENDED_OFFSETS = range(54, 60), range(101, 149)
Vector = tuple[float, float, float]


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


def plain_path(value: str) -> str:
    """A file name that stays in the job's folder; raises ValueError for any other."""
    parts = value.replace("\\", "/").split("/")
    if value.startswith(("/", "~")) or ".." in parts or ":" in value or "\x00" in value:
        raise ValueError("must be a plain path inside the job's folder; put the model beside the job")
    return value


class BodyRole(_Doc):
    """What a body of the model is there for."""

    body: str = Field(max_length=200, title="Body")
    role: Literal["part", "stock", "fixture", "left out"] = Field(title="Role")


class Part(_Doc):
    """The model file, by a path relative to the job's folder, its scale, and what its bodies are."""

    file: str = Field(min_length=1, max_length=200, title="Model file")
    scale: float = Field(default=1.0, gt=0, le=1e6, title="Scale", description="25.4 for a model saved in inches")
    roles: list[BodyRole] = Field(default_factory=list, max_length=2000, description="bodies not named are the part")

    @field_validator("file")
    @classmethod
    def _stays_in_folder(cls, value: str) -> str:
        return plain_path(value)

    def role_of(self, body: str) -> str:
        return next((r.role for r in self.roles if r.body == body), "part")


Third = Literal[-1, 0, 1]


class BoxZero(_Doc):
    """One of the 27 points of a box: −1, 0 or 1 along each axis."""

    kind: Literal["box point"] = "box point"
    of: Literal["stock", "part"] = "stock"
    at: tuple[Third, Third, Third] = (0, 0, 1)


class PointZero(_Doc):
    """A vertex of the part or the centre of a round edge, by its place in part coordinates."""

    kind: Literal["point"] = "point"
    of: Literal["vertex", "hole centre"] = "vertex"
    place: Vector


class Setup(_Doc):
    """One clamping: which way is up, stock, what holds it, work zero, machine, heights and controller."""

    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    name: str = Field(default="", max_length=80, title="Name")
    makes: str = Field(
        default="", max_length=200, title="Makes", description="Empty: the part; else a body that is a fixture"
    )
    up: Up = Field(default_factory=UpAxis, title="Up")
    flip: bool = Field(default=False, title="Upside down")
    x_along: EdgeReference | None = Field(default=None, title="X along an edge")
    spin_deg: float = Field(default=0.0, ge=-360, le=360, title="Turn about Z", json_schema_extra={"unit": "deg"})
    stock: StockShape = Field(default_factory=BoxStock, title="Stock")
    grid: Grid | None = Field(default=None, title="Grid of parts")
    fixtures: list[Fixture] = Field(default_factory=list, max_length=50, title="Fixtures")
    work_zero: Annotated[BoxZero | PointZero, Field(discriminator="kind")] = Field(
        default_factory=BoxZero, title="Work zero"
    )
    work_offset: int = Field(
        default=54, ge=54, le=148, title="Work offset", description="54 to 59; 101 to 148 are the extended ones 1 to 48"
    )
    machine: str = Field(default="", title="Machine")
    table_below_mm: float | None = Field(
        default=None,
        ge=-1000,
        le=5000,
        title="Table below the stock",
        description="From the stock's underside down to the table; empty: under the lowest fixture",
        json_schema_extra={"unit": "mm"},
    )
    on_table_mm: tuple[float, float] | None = Field(
        default=None, title="Place on the table", description="Of the work zero, from the table's middle"
    )
    dialect: str = Field(default="Plain ISO", title="Controller")
    clearance_mm: float = Field(
        default=15,
        gt=0,
        le=1000,
        title="Clearance height",
        description="Above the top of the stock, before the first and after the last motion",
        json_schema_extra={"unit": "mm"},
    )
    retract_mm: float = Field(
        default=5,
        gt=0,
        le=1000,
        title="Retract height",
        description="Above the top of the stock, between cuts",
        json_schema_extra={"unit": "mm"},
    )

    @field_validator("work_offset")
    @classmethod
    def _is_an_offset(cls, value: int) -> int:
        if value not in PLAIN_OFFSETS and value not in EXTENDED_OFFSETS:
            raise ValueError("must be 54 to 59, or 101 to 148 for the extended ones")
        return value


class Selection(_Doc):
    """Picked geometry with a name, so that it can be used again."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    items: list[Selector] = Field(min_length=1, max_length=2000)


class MeasureSpot(_Doc):
    """Where a measurement holds on to: a place, or a face or edge of the part, a fixture, the stock or the table."""

    on: Literal["part", "stock", "fixture", "table"] = "part"
    setup: str = Field(default="", max_length=40, description="for stock, fixture and table")
    fixture: str = Field(default="", max_length=40)
    what: Selector | None = None
    place: Vector | None = None

    @model_validator(mode="after")
    def _has_something(self) -> MeasureSpot:
        if self.what is None and self.place is None:
            raise ValueError("names neither a face, an edge nor a place")
        return self


class Measurement(_Doc):
    """A measurement that stays visible and follows what it measures."""

    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    spots: list[MeasureSpot] = Field(min_length=1, max_length=2)


class SeenStock(_Doc):
    """Which stock a row's path is made for; the proof always cuts the one that is there."""

    kind: Literal["chain", "before row", "first stock", "no stock"] = Field(
        default="chain",
        title="Stock it sees",
        description="What the rows before leave; what stood before an earlier row; the setup's first; or none: as if "
        "the whole box round it stood",
    )
    row: int | None = Field(default=None, ge=1, le=9999, title="Row")

    @model_validator(mode="after")
    def _has_its_row(self) -> SeenStock:
        if (self.kind == "before row") != (self.row is not None):
            raise ValueError("names a row exactly where it is the stock before one")
        return self


class Operation(_Doc):
    """One row of the route."""

    number: int = Field(ge=1, le=9999, title="Number")
    name: str = Field(default="", max_length=80, title="Name")
    enabled: bool = Field(default=True, title="On")
    setup: str = Field(title="Setup")
    tool: int = Field(title="Tool")
    instance: int | None = Field(
        default=None, ge=1, le=10_000, title="Copy", description="Of a grid of parts; empty: all of them together"
    )
    copies: Copies | None = Field(default=None, title="Copies", description="The path again at other places")
    sees: SeenStock = Field(default_factory=SeenStock)
    params: StrategyParams
    spindle_rpm: float | None = Field(
        default=None,
        ge=LEAST_SPINDLE_RPM,
        le=200_000,
        title="Spindle speed",
        description="Empty: the tool's",
        json_schema_extra={"unit": "rpm"},
    )
    cutting_feed_mm_min: float | None = Field(
        default=None,
        ge=LEAST_FEED_MM_MIN,
        le=100_000,
        title="Cutting feed",
        description="Empty: the tool's",
        json_schema_extra={"unit": "mm/min"},
    )
    arm: ArmWishes | None = Field(default=None, title="Arm", description="How an arm goes along it, in a cell")


class Job(_Doc):
    """A part's whole programming work."""

    format: Literal["fenrik-job"] = "fenrik-job"
    version: Literal[1] = 1
    name: str = Field(default="New job", max_length=120, title="Name")
    part: Part | None = None
    machines: list[Machine] = Field(default_factory=list, max_length=100)
    cells: list[Cell] = Field(default_factory=list, max_length=20)
    tools: list[Tool] = Field(default_factory=list, max_length=1000)
    material: str = Field(default="", max_length=80, title="Material")
    materials: list[Material] = Field(default_factory=list, max_length=200)
    load: float = Field(
        default=0.5,
        ge=0,
        le=1,
        title="Load",
        description="From cautious (0) to hard (1); proposes speeds and engagement",
    )
    stock_list: StockList = Field(default_factory=StockList, title="Stock list")
    files: list[str] = Field(
        default_factory=list, max_length=100, description="further model files: casting, fixtures, drawings"
    )
    selections: list[Selection] = Field(default_factory=list, max_length=500)
    measurements: list[Measurement] = Field(default_factory=list, max_length=200)
    sketches: list[Sketch] = Field(default_factory=list, max_length=200)
    setups: list[Setup] = Field(default_factory=list, max_length=50)
    operations: list[Operation] = Field(default_factory=list, max_length=2000)
    recipe: Recipe = Field(default_factory=Recipe, title="Recipe")
    hole_choices: list[HoleChoice] = Field(default_factory=list, max_length=5000)
    proof: ProofSettings = Field(default_factory=ProofSettings)
    cell_mm: float | None = Field(
        default=None,
        ge=LEAST_STEP_MM,
        le=20,
        title="Stock cell",
        description="Resolution of the stock; empty: chosen from its size",
        json_schema_extra={"unit": "mm"},
    )

    @field_validator("files")
    @classmethod
    def _stay_in_folder(cls, value: list[str]) -> list[str]:
        return [plain_path(v) for v in value]

    def tool(self, number: int) -> Tool:
        return next(t for t in self.tools if t.number == number)

    def setup(self, id_: str) -> Setup:
        return next(s for s in self.setups if s.id == id_)

    def machine_of(self, setup: Setup) -> Machine:
        cell = self.cell_of(setup)
        if cell is not None:
            return machine_of_cell(cell)
        return next((m for m in self.machines if m.name == setup.machine), Machine(name="Unnamed machine"))

    def cell_of(self, setup: Setup) -> Cell | None:
        """The cell that a setup's work stands in; None where it is a machine."""
        return next((c for c in self.cells if c.name == setup.machine), None)

    def feeds(self, operation: Operation) -> Feeds:
        """The feeds that an operation runs at."""
        tool, machine = self.tool(operation.tool), self.machine_of(self.setup(operation.setup))
        return Feeds(
            operation.cutting_feed_mm_min or tool.cutting_feed_mm_min,
            tool.entry_feed_mm_min,
            tool.exit_feed_mm_min,
            machine.max_feed_mm_min,
        )

    def rpm(self, operation: Operation) -> float:
        """The spindle speed that an operation runs at."""
        return operation.spindle_rpm or self.tool(operation.tool).spindle_rpm

    def material_of(self) -> Material | None:
        """The job's material; None where none is chosen."""
        return next((m for m in self.materials if m.name == self.material), None)

    def route(self, setup: Setup) -> list[Operation]:
        """Enabled operations of a setup in the order they run."""
        return [o for o in self.operations if o.setup == setup.id and o.enabled]


def shared_offsets(job: Job) -> dict[int, list[str]]:
    """Work offsets that several setups on one machine use, with those setups."""
    users: dict[tuple[str, int], list[str]] = {}
    for setup in job.setups:
        users.setdefault((setup.machine, setup.work_offset), []).append(setup.name or setup.id)
    return {offset: names for (_, offset), names in users.items() if len(names) > 1}


def bodies_used(job: Job) -> list[tuple[str, str]]:
    """Field and name of every body that setups refer to."""
    used = [(f"setups.{s.id}.makes", s.makes) for s in job.setups if s.makes]
    used += [(f"setups.{s.id}.stock.body", s.stock.body) for s in job.setups if isinstance(s.stock, BodyStock)]
    return used + [
        (f"setups.{s.id}.fixtures.{f.id}.body", f.body)
        for s in job.setups
        for f in s.fixtures
        if isinstance(f, BodyFixture)
    ]


def setup_frame(setup: Setup, solid: Solid) -> Frame:
    """The setup's frame for computing: its directions, with the part's own zero.

    Raises:
        FenrikError: when what it came from is lost.
    """
    return oriented_frame(
        setup.up,
        solid,
        f"setups.{setup.id}.up",
        flip=setup.flip,
        x_along=setup.x_along,
        spin_deg=setup.spin_deg,
        name=setup.name or setup.id,
    )


def work_zero(setup: Setup, frame: Frame, solid: Solid, stock: Points) -> Points:
    """The work zero in the setup's frame.

    Args:
        stock: (2, 3) box of the stock in that frame.

    Raises:
        FenrikError: when the vertex or hole that it was put on is lost.
    """
    zero = setup.work_zero
    if isinstance(zero, BoxZero):
        low, high = solid.bounds(frame) if zero.of == "part" else stock
        return low + (high - low) * (np.array(zero.at, float) + 1.0) / 2.0
    points = zero_points(solid)[zero.of]
    away = np.linalg.norm(points - np.array(zero.place), axis=1) if len(points) else np.array([np.inf])
    if away.min() > POINT_MATCH_MM:
        raise fail(
            f"setups.{setup.id}.work_zero",
            f"is lost: the part has no {zero.of} there.",
            "Pick the work zero again.",
            list(zero.place),
        )
    return frame.to_local(points[int(away.argmin())])


def zero_points(solid: Solid) -> dict[str, Points]:
    """Places that a work zero can be put on, in part coordinates: edge ends, and centres of round edges."""
    ends = [e.points[k] for e in solid.edges if not e.closed for k in (0, -1)]
    centres = [e.centre for e in solid.edges if e.centre is not None]
    return {
        "vertex": np.unique(np.round(np.array(ends).reshape(-1, 3), 9), axis=0),
        "hole centre": np.unique(np.round(np.array(centres).reshape(-1, 3), 9), axis=0),
    }
