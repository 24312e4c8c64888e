"""The stock after any row: its surface for the screen, and as a file."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from fastapi import APIRouter, Query, Response

from fenrik.app.bricks import bricks, coarse
from fenrik.app.context import Opened, open_job
from fenrik.app.desk import AtDesk
from fenrik.app.layout import BINARY, binary
from fenrik.app.reading import clean_name
from fenrik.core.job import Setup
from fenrik.core.solids.writing import write_mesh
from fenrik.core.stock import Stock, stock_mesh

router = APIRouter(prefix="/api/jobs/{job_id}/setups/{setup_id}/stock-after", tags=["stocks"], route_class=AtDesk)


@router.get("", operation_id="readStockAfter", response_class=Response, responses=BINARY)
def stock_after(
    job_id: str, setup_id: str, row: int = Query(ge=0), have: int | None = Query(default=None, ge=0),
    deviation: bool = False, coarsely: bool = Query(default=False, alias="coarse"),
) -> Response:  # fmt: skip
    """The stock's surface after a row of a setup, or as it comes for row 0: all of it, or the bricks that differ from
    those after row `have`; with the thickness over the part where `deviation` is asked for."""
    opened = open_job(job_id)
    setup = opened.setup(setup_id)
    stock = _ready(opened, setup, row)
    frame = opened.build.frame(setup)
    if coarsely:
        return binary(coarse({"row": row}, stock, frame))
    known = _ready(opened, setup, have) if have is not None and not deviation else None
    part = opened.build.part_distances(setup) if deviation and opened.job.part else None
    volume = stock.volume_mm3()
    meta = {"row": row, "volume_mm3": volume, "left_mm3": max(volume - opened.build.made_mm3(setup), 0.0)}
    return binary(bricks(meta, stock, frame, known, part))


@router.get("/file", operation_id="exportStockAfter", response_class=Response, responses=BINARY)
def stock_file(
    job_id: str, setup_id: str, row: int = Query(ge=0), form: Literal["stl", "3mf"] = "stl"
) -> Response:  # fmt: skip
    """The stock after a row as a file, in part coordinates."""
    opened = open_job(job_id)
    setup = opened.setup(setup_id)
    mesh = stock_mesh(_ready(opened, setup, row))
    mesh = replace(mesh, vertices=opened.build.frame(setup).to_part(mesh.vertices))
    name = f"{clean_name(opened.job.name) or 'stock'}-after-{row}.{form}"
    return Response(
        write_mesh(mesh, f".{form}"),
        media_type="application/octet-stream",
        headers={"content-disposition": f'attachment; filename="{name}"'},
    )


def _ready(opened: Opened, setup: Setup, number: int) -> Stock:
    """The stock after a row.

    Raises:
        FenrikError: where it was not computed.
    """
    if number:
        opened.ready(opened.build.stock_key_after(setup, number), "stock")
    return opened.build.stock_after_row(setup, number)
