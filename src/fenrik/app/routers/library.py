"""The shop's library, cutting data, threads, holders, and what a job's tools lack."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any, Literal

from fastapi import APIRouter, File, Query, Response, UploadFile
from pydantic import BaseModel, Field

from fenrik.app import library
from fenrik.app.access.roles import needs
from fenrik.app.context import Opened, open_job, rework
from fenrik.app.desk import AtDesk
from fenrik.app.reading import MAX_LIST_BYTES, read_tools
from fenrik.app.routers.jobs import JobState, job_state
from fenrik.core.contact.stickout import shortest_stick_out
from fenrik.core.cutting.load import Limits, Proposal, propose, warnings_for
from fenrik.core.cutting.materials import GROUPS, Material
from fenrik.core.cutting.threads import standard_threads
from fenrik.core.errors import fail
from fenrik.core.job import Job
from fenrik.core.machines import Machine
from fenrik.core.recipe import Recipe
from fenrik.core.setups.grids import join_meshes
from fenrik.core.sketches.files import read_drawing
from fenrik.core.tools import Tool
from fenrik.core.tools.drawing import OutlineBody, tool_outline
from fenrik.core.tools.holders import standard_holders
from fenrik.core.tools.library import (
    find_tools,
    tool_difference,
    tools_to_csv,
    tools_to_json,
)
from fenrik.core.tools.running import as_cutting

router = APIRouter(prefix="/api", tags=["library"], route_class=AtDesk)
LISTS: dict[int | str, dict[str, Any]] = {200: {"content": {"text/csv": {}, "application/json": {}}}}


class Take(BaseModel):
    """Numbers of library tools to copy into a job; a number that is taken there is replaced by a free one."""

    numbers: list[int] = Field(min_length=1, max_length=200)


class Differs(BaseModel):
    """A job's tool that the library has too, and the fields in which they differ (the library's value first)."""

    number: int
    fields: list[tuple[str, Any, Any]]


class Speeds(BaseModel):
    """Proposed cutting data, and what is wrong with the tool's present numbers."""

    proposal: Proposal
    warnings: dict[str, str]


class StickOutOffer(BaseModel):
    """The shortest safe stick-out of a tool, and where it is needed (part coordinates)."""

    shortest_mm: float
    place: list[float]
    bound: str
    now_mm: float


@router.get("/library/tools", operation_id="listLibraryTools")
def list_tools(
    words: str = Query(default="", max_length=100),
    kind: str = Query(default="", max_length=40),
    smallest_mm: float = Query(default=0.0, ge=0, le=1000),
    largest_mm: float = Query(default=1000.0, ge=0, le=1000),
    use: Literal["", "roughing", "finishing", "both"] = "",
) -> list[dict[str, Any]]:
    """Tools of the shop by words, kind, diameter and use."""
    found = find_tools(library.library_tools(), words, kind, smallest_mm, largest_mm, use)
    return [t.model_dump(mode="json") for t in found]


@router.put("/library/tools/{number}", operation_id="keepLibraryTool")
@needs("run")
def keep_tool(number: int, tool: Tool) -> dict[str, Any]:
    """Put a tool into the library, or change it there."""
    kept = tool.model_copy(update={"number": _number(number)})
    library.keep_tools([kept])
    return kept.model_dump(mode="json")


@router.delete("/library/tools/{number}", operation_id="dropLibraryTool", status_code=204)
@needs("run")
def drop_tool(number: int) -> None:
    library.drop_tool(_number(number))


def _number(number: int) -> int:
    if not 1 <= number <= 9999:
        raise fail("number", "must lie between 1 and 9999.", "Use another number.", number)
    return number


@router.get("/library/tools.{form}", operation_id="exportLibraryTools", response_class=Response, responses=LISTS)
def export_tools(form: Literal["json", "csv"]) -> Response:
    """The library's tools as a file."""
    return _list_file(library.library_tools(), form, "tools")


def _list_file(tools: list[Tool], form: str, name: str) -> Response:
    text = tools_to_csv(tools) if form == "csv" else tools_to_json(tools)
    return Response(
        text,
        media_type="text/csv" if form == "csv" else "application/json",
        headers={"content-disposition": f'attachment; filename="{name}.{form}"'},
    )


@router.post("/library/tools/import", operation_id="importLibraryTools")
@needs("run")
def import_tools(file: Annotated[UploadFile, File()]) -> dict[str, int]:
    """Tools from a JSON or CSV file; those of the same number are replaced. All are kept or none."""
    tools = _read_list(file)
    library.keep_tools(tools)
    return {"tools": len(tools)}


def _read_list(file: UploadFile) -> list[Tool]:
    return read_tools(file.file.read(MAX_LIST_BYTES + 1), file.filename or "tools")


@router.get("/library/materials", operation_id="listMaterials")
def list_materials() -> list[Material]:
    return library.library_materials()


@router.get("/library/recipe", operation_id="readRecipe")
def read_recipe() -> Recipe:
    """The rules that new jobs begin with."""
    return library.shop_recipe()


@router.put("/library/recipe", operation_id="keepRecipe")
@needs("run")
def keep_recipe(recipe: Recipe) -> Recipe:
    library.keep_recipe(recipe)
    return recipe


@router.put("/library/materials", operation_id="keepMaterial")
@needs("run")
def keep_material(material: Material) -> Material:
    """Put a material into the library; one of the same name is replaced."""
    library.keep_material(material)
    return material


@router.get("/library/tables", operation_id="readTables")
def tables() -> dict[str, Any]:
    """Threads, holders and material groups that forms offer."""
    return {
        "threads": [asdict(t) | {"minor_mm": t.minor_mm} for t in standard_threads().values()],
        "holders": [
            {
                "name": h.name,
                "taper": h.taper,
                "sections": [s.model_dump() for s in h.sections],
                "grips": h.grips,
                "source": h.source,
            }
            for h in standard_holders().values()
        ],
        "groups": GROUPS,
    }


@router.post("/jobs/{job_id}/tools/take", operation_id="takeTools")
def take_tools(job_id: str, body: Take) -> JobState:
    """Copy tools of the library into the job."""
    shelf = {t.number: t for t in library.library_tools()}
    missing = [n for n in body.numbers if n not in shelf]
    if missing:
        raise fail("numbers", "are not in the library.", "Choose tools of the list.", missing)

    def work(opened: Opened) -> tuple[Job, None]:
        tools = list(opened.job.tools)
        for number in body.numbers:
            taken = {t.number for t in tools}
            fresh = number if number not in taken else max(taken | shelf.keys()) + 1
            tools.append(shelf[number].model_copy(update={"number": fresh}))
        return opened.job.model_copy(update={"tools": tools}), None

    rework(job_id, "tools from the library", work)
    return job_state(job_id)


@router.post("/jobs/{job_id}/tools/{number}/keep", operation_id="keepInLibrary")
@needs("run")
def keep_in_library(job_id: str, number: int) -> dict[str, Any]:
    """Put a job's tool into the library under its number."""
    tool = _tool(open_job(job_id), number)
    library.keep_tools([tool])
    return tool.model_dump(mode="json")


@router.get("/jobs/{job_id}/tools/differences", operation_id="readToolDifferences")
def differences(job_id: str) -> list[Differs]:
    """Tools of the job that the library has too but with other numbers."""
    shelf = {t.number: t for t in library.library_tools()}
    found = []
    for tool in open_job(job_id).job.tools:
        if tool.number in shelf and (fields := tool_difference(shelf[tool.number], tool)):
            found.append(Differs(number=tool.number, fields=fields))
    return found


@router.get("/jobs/{job_id}/tools.{form}", operation_id="exportJobTools", response_class=Response, responses=LISTS)
def export_job_tools(job_id: str, form: Literal["json", "csv"]) -> Response:
    return _list_file(open_job(job_id).job.tools, form, "job-tools")


@router.post("/jobs/{job_id}/tools/import", operation_id="importJobTools")
def import_job_tools(job_id: str, file: Annotated[UploadFile, File()]) -> JobState:
    """Tools from a JSON or CSV file into the job; those of the same number are replaced. All are kept or none."""
    tools = _read_list(file)

    def work(opened: Opened) -> tuple[Job, None]:
        given = {t.number: t for t in tools}
        here = {t.number for t in opened.job.tools}
        kept = [given.get(t.number, t) for t in opened.job.tools]
        fresh = [t for t in tools if t.number not in here]
        return opened.job.model_copy(update={"tools": [*kept, *fresh]}), None

    rework(job_id, "tools from a file", work)
    return job_state(job_id)


@router.get("/jobs/{job_id}/tools/{number}/speeds", operation_id="readSpeeds")
def speeds(
    job_id: str,
    number: int,
    setup: str = Query(default="", max_length=40),
    load: float | None = Query(default=None, ge=0, le=1),
) -> Speeds:
    """Cutting data for a tool in the job's material on a setup's machine, and warnings for its present numbers."""
    opened = open_job(job_id)
    tool = _tool(opened, number)
    material = opened.job.material_of()
    if material is None:
        raise fail("material", "is not chosen yet.", "Choose the job's material in the Tools sheet.")
    where = next((s for s in opened.job.setups if s.id == setup), None)
    machine = (
        opened.job.machine_of(where) if where else next(iter(opened.job.machines), Machine(name="Unnamed machine"))
    )
    limits = Limits(machine.spindle_max_rpm, machine.max_feed_mm_min, machine.power_kw, machine.torque_nm)
    cutting = as_cutting(tool)
    proposal = propose(cutting, material, limits, opened.job.load if load is None else load)
    return Speeds(
        proposal=proposal,
        warnings=warnings_for(cutting, material, limits, tool.spindle_rpm, tool.cutting_feed_mm_min),
    )


@router.get("/jobs/{job_id}/tools/{number}/stick-out", operation_id="readStickOut")
def stick_out(
    job_id: str,
    number: int,
    setup: str = Query(max_length=40),
    operation: int | None = Query(default=None, ge=1, le=9999),
    margin_mm: float = Query(default=1.0, ge=0, le=50),
) -> StickOutOffer:
    """The shortest stick-out at which the holder clears part and fixtures: over an operation's path where it is ready,
    else wherever the cutter can reach the part."""
    opened = open_job(job_id)
    tool, where = _tool(opened, number), opened.setup(setup)
    build = opened.build
    placing = build.placing(where)
    meshes = [m for m in (build.mesh(where, 0.05), placing.fixture_mesh()) if m is not None]
    tips = axes = None
    row = next((o for o in opened.job.operations if o.number == operation), None)
    if row is not None and build.store.get(build.path_key(row)) is not None:
        path = build.outcome(row).toolpath
        tips, axes = path.point[path.feed > 0], path.axis[path.feed > 0]
    found = shortest_stick_out(join_meshes(meshes), tool, margin_mm, tips, axes)
    place = placing.frame.to_part([found.place])[0]  # type: ignore[arg-type]
    return StickOutOffer(
        shortest_mm=found.shortest_mm, place=place.tolist(), bound=found.bound, now_mm=tool.stick_out_mm
    )


@router.post("/tools/outline", operation_id="drawTool")
@needs("look")
def draw_tool(tool: Tool) -> list[OutlineBody]:
    """A tool as its numbers stand, kept or not: the outline of each of its bodies, to be drawn to scale."""
    return tool_outline(tool)


@router.get("/jobs/{job_id}/contour/{name}", operation_id="readContour")
def contour(job_id: str, name: str, layer: str = Query(default="", max_length=200)) -> list[tuple[float, float, float]]:
    """The contour of a cutter from a DXF file of the job: places (radius, height) and bulges, from the tip up."""
    curves = [c for c in read_drawing(open_job(job_id).build.file(name), name, layer) if not c.closed]
    if len(curves) != 1:
        raise fail(
            "contour", f"must be one open chain from the tip up; the drawing holds {len(curves)}.", "Mend the drawing."
        )
    chain = curves[0]
    if abs(chain.points[0, 0]) > abs(chain.points[-1, 0]):
        chain = chain.reversed()
    tip = chain.points[0]
    bulges = [*chain.bulges.tolist(), 0.0]
    return [(float(x - tip[0]), float(y - tip[1]), b) for (x, y), b in zip(chain.points.tolist(), bulges, strict=True)]


def _tool(opened: Opened, number: int) -> Tool:
    tool = next((t for t in opened.job.tools if t.number == number), None)
    if tool is None:
        raise fail("tool", "does not exist (any more).", "Choose another tool.", number)
    return tool
