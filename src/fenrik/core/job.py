"""The job document: everything the programmer decides and nothing that is computed."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from fenrik.core.errors import FenrikError, Problem, fail
from fenrik.core.frames import AXES, Frame, Points, frame_with_up
from fenrik.core.machines import Machine
from fenrik.core.proof import ProofSettings
from fenrik.core.solids import FaceReference, FaceRule, Solid, find_faces
from fenrik.core.strategies import StrategyParams
from fenrik.core.tools import Tool

FORMAT = "fenrik-job"
VERSION = 1
POINT_MATCH_MM = 0.01


class _Doc(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Part(_Doc):
    """The model file, by a path relative to the job's folder, and its scale."""

    file: str = Field(min_length=1, max_length=200, title="Model file")
    scale: float = Field(default=1.0, gt=0, le=1e6, title="Scale", description="25.4 for a model saved in inches")

    @field_validator("file")
    @classmethod
    def _stays_in_folder(cls, value: str) -> str:
        parts = value.replace("\\", "/").split("/")
        if value.startswith(("/", "~")) or ".." in parts or ":" in value or "\x00" in value:
            raise ValueError("must be a plain path inside the job's folder; put the model beside the job")
        return value


class UpAxis(_Doc):
    """A principal axis of the part points up."""

    kind: Literal["axis"] = "axis"
    axis: Literal["+x", "-x", "+y", "-y", "+z", "-z"] = "+z"


class UpFace(_Doc):
    """A flat face looks up."""

    kind: Literal["face"] = "face"
    face: FaceReference | FaceRule


class BoxStock(_Doc):
    """A block around the part with an allowance on each side (in the setup's frame)."""

    kind: Literal["box"] = "box"
    x_minus_mm: float = Field(default=2, ge=0, le=1000, title="Left (−X)", json_schema_extra={"unit": "mm"})
    x_plus_mm: float = Field(default=2, ge=0, le=1000, title="Right (+X)", json_schema_extra={"unit": "mm"})
    y_minus_mm: float = Field(default=2, ge=0, le=1000, title="Front (−Y)", json_schema_extra={"unit": "mm"})
    y_plus_mm: float = Field(default=2, ge=0, le=1000, title="Back (+Y)", json_schema_extra={"unit": "mm"})
    z_minus_mm: float = Field(default=0, ge=0, le=1000, title="Below (−Z)", json_schema_extra={"unit": "mm"})
    z_plus_mm: float = Field(default=1, ge=0, le=1000, title="Above (+Z)", json_schema_extra={"unit": "mm"})


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
    place: tuple[float, float, float]


class Setup(_Doc):
    """One clamping: which way is up, stock, work zero, machine, heights and controller."""

    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    name: str = Field(default="", max_length=80, title="Name")
    up: Annotated[UpAxis | UpFace, Field(discriminator="kind")] = Field(default_factory=UpAxis, title="Up")
    spin_deg: float = Field(default=0.0, ge=-360, le=360, title="Turn about Z", json_schema_extra={"unit": "deg"})
    stock: BoxStock = Field(default_factory=BoxStock, title="Stock")
    work_zero: Annotated[BoxZero | PointZero, Field(discriminator="kind")] = Field(
        default_factory=BoxZero, title="Work zero"
    )
    work_offset: int = Field(default=54, ge=54, le=59, title="Work offset")
    machine: str = Field(default="", title="Machine")
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


class Operation(_Doc):
    """One row of the route."""

    number: int = Field(ge=1, le=9999, title="Number")
    name: str = Field(default="", max_length=80, title="Name")
    enabled: bool = Field(default=True, title="On")
    setup: str = Field(title="Setup")
    tool: int = Field(title="Tool")
    params: StrategyParams
    spindle_rpm: float | None = Field(
        default=None,
        gt=0,
        le=200_000,
        title="Spindle speed",
        description="Empty: the tool's",
        json_schema_extra={"unit": "rpm"},
    )
    cutting_feed_mm_min: float | None = Field(
        default=None,
        gt=0,
        le=100_000,
        title="Cutting feed",
        description="Empty: the tool's",
        json_schema_extra={"unit": "mm/min"},
    )


class Job(_Doc):
    """A part's whole programming work."""

    format: Literal["fenrik-job"] = "fenrik-job"
    version: Literal[1] = 1
    name: str = Field(default="New job", max_length=120, title="Name")
    part: Part | None = None
    machines: list[Machine] = Field(default_factory=list, max_length=100)
    tools: list[Tool] = Field(default_factory=list, max_length=1000)
    setups: list[Setup] = Field(default_factory=list, max_length=50)
    operations: list[Operation] = Field(default_factory=list, max_length=2000)
    proof: ProofSettings = Field(default_factory=ProofSettings)
    cell_mm: float | None = Field(
        default=None,
        gt=0,
        le=20,
        title="Stock cell",
        description="Resolution of the stock; empty: chosen from its size",
        json_schema_extra={"unit": "mm"},
    )

    def tool(self, number: int) -> Tool:
        return next(t for t in self.tools if t.number == number)

    def setup(self, id_: str) -> Setup:
        return next(s for s in self.setups if s.id == id_)

    def machine_of(self, setup: Setup) -> Machine:
        return next((m for m in self.machines if m.name == setup.machine), Machine(name="Unnamed machine"))

    def route(self, setup: Setup) -> list[Operation]:
        """Enabled operations of a setup in the order they run."""
        return [o for o in self.operations if o.setup == setup.id and o.enabled]


def parse_job(data: Any) -> Job:
    """A job document from plain JSON.

    Raises:
        FenrikError: with one problem for each field that is wrong.
    """
    try:
        job = Job.model_validate(data)
    except ValidationError as error:
        raise FenrikError(*(_problem(e) for e in error.errors())) from error
    problems = check_references(job)
    if problems:
        raise FenrikError(*problems)
    return job


def _problem(error: Any) -> Problem:
    path = ".".join(str(p) for p in error["loc"] if not (isinstance(p, str) and ("[" in p or "-" in p)))
    value = error.get("input")
    shown = value if isinstance(value, str | int | float | bool | None) else None
    message = error["msg"].removeprefix("Value error, ")
    return Problem(path or "job", message[:1].lower() + message[1:] + ".", "Correct this field.", shown)


def check_references(job: Job) -> list[Problem]:
    """Things that must agree between the parts of a document."""
    problems = []
    named: list[tuple[str, list[Any]]] = [
        ("tools", [t.number for t in job.tools]),
        ("setups", [s.id for s in job.setups]),
        ("operations", [o.number for o in job.operations]),
        ("machines", [m.name for m in job.machines]),
    ]
    for name, values in named:
        for value in sorted({v for v in values if values.count(v) > 1}, key=str):
            problems.append(Problem(name, f"{value} is there more than once.", "Give each its own.", value))
    setups, tools = {s.id for s in job.setups}, {t.number for t in job.tools}
    for k, operation in enumerate(job.operations):
        if operation.setup not in setups:
            problems.append(
                Problem(f"operations.{k}.setup", "is not a setup of this job.", "Choose a setup.", operation.setup)
            )
        if operation.tool not in tools:
            problems.append(
                Problem(f"operations.{k}.tool", "is not a tool of this job.", "Choose a tool.", operation.tool)
            )
    machines = {m.name for m in job.machines}
    for k, setup in enumerate(job.setups):
        if setup.machine and setup.machine not in machines:
            problems.append(
                Problem(f"setups.{k}.machine", "is not a machine of this job.", "Choose a machine.", setup.machine)
            )
        if setup.retract_mm > setup.clearance_mm:
            problems.append(
                Problem(
                    f"setups.{k}.retract_mm",
                    f"lies above the clearance height ({setup.clearance_mm:g} mm).",
                    "Lower it, or raise the clearance height.",
                    setup.retract_mm,
                )
            )
    return problems


def setup_frame(setup: Setup, solid: Solid) -> Frame:
    """The setup's frame for computing: its directions, with the part's own zero."""
    if isinstance(setup.up, UpAxis):
        up = np.array(AXES[setup.up.axis], dtype=float)
    else:
        faces = find_faces(solid, setup.up.face, f"setups.{setup.id}.up.face")
        face = solid.faces[faces[0]]
        if face.kind != "plane":
            raise fail(f"setups.{setup.id}.up.face", "is not flat.", "Pick a flat face.", face.kind)
        up = np.array(face.normal)
    return frame_with_up(up, setup.spin_deg, setup.name or setup.id)


def stock_box(setup: Setup, frame: Frame, solid: Solid) -> tuple[Points, Points]:
    """Corners of the stock in the setup's frame."""
    low, high = solid.mesh.in_frame(frame).bounds()
    s = setup.stock
    return (low - [s.x_minus_mm, s.y_minus_mm, s.z_minus_mm], high + [s.x_plus_mm, s.y_plus_mm, s.z_plus_mm])


def work_zero(setup: Setup, frame: Frame, solid: Solid) -> Points:
    """The work zero in the setup's frame.

    Raises:
        FenrikError: when the vertex or hole that it was put on is lost.
    """
    zero = setup.work_zero
    if isinstance(zero, BoxZero):
        low, high = solid.mesh.in_frame(frame).bounds() if zero.of == "part" else stock_box(setup, frame, solid)
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
