"""What a proof is about: programs, tools, stock, part, fixtures and machine, and what results are held against."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.machines import Machine
from fenrik.core.machines.chain import Vector3
from fenrik.core.posting import Controller, Posted
from fenrik.core.proof.loads import LoadSummary
from fenrik.core.solids.model import Mesh
from fenrik.core.stock import Stock
from fenrik.core.tools import Tool


class ProofSettings(BaseModel):
    """What the proof holds results against."""

    model_config = ConfigDict(extra="forbid")
    near_miss_mm: float = Field(
        default=2.0,
        ge=0,
        le=50,
        title="Near-miss limit",
        description="A holder closer to the stock than this is reported",
        json_schema_extra={"unit": "mm"},
    )
    band_mm: float = Field(
        default=0.1,
        gt=0,
        le=10,
        title="Deviation band",
        description="Deviation within this counts as in tolerance",
        json_schema_extra={"unit": "mm"},
    )


@dataclass(frozen=True)
class ProofInputs:
    """All in the setup's frame; `zero` is its work zero there, `on_table` the zero's place from the table's middle,
    `table` the height of the table's top where it is known, `failed` why operations are not in the programs, `at` the
    work zero over the middle of the table's top on a machine that turns, `left_out` what no program holds."""

    stock: Stock
    part: DistanceIndex
    controller: Controller
    programs: list[Posted]
    tools: dict[int, Tool]
    first_tools: list[int]
    tolerances: dict[int, float]
    machine: Machine
    zero: Points
    settings: ProofSettings
    fixtures: Mesh | None = None
    on_table: tuple[float, float] | None = None
    table: float | None = None
    failed: Mapping[int, str] = field(default_factory=dict)
    loads: Mapping[int, LoadSummary] = field(default_factory=dict)
    at: Vector3 = (0.0, 0.0, 0.0)
    left_out: list[Finding] = field(default_factory=list)
