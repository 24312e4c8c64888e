"""The demo's jobs: documents built in code over the shipped STEP files, a file each."""

from __future__ import annotations

from importlib import resources
from typing import Any

from fenrik.core.job import Job
from fenrik.core.job_reading import parse_job
from fenrik.demo.jobs import (
    dial_plate,
    lantern_bracket,
    lens_mould_insert,
    pump_ring,
    rail_brackets,
    seal_figurehead,
    trumpet_core_half,
    valve_manifold,
    winch_bearing,
)

DEMO_JOBS = {
    "lantern-bracket": lantern_bracket.document,
    "lens-mould-insert": lens_mould_insert.document,
    "valve-manifold": valve_manifold.document,
    "dial-plate": dial_plate.document,
    "rail-brackets": rail_brackets.document,
    "winch-bearing": winch_bearing.document,
    "pump-ring": pump_ring.document,
    "seal-figurehead": seal_figurehead.document,
    "trumpet-core-half": trumpet_core_half.document,
}
MADE = {"seal-figurehead": seal_figurehead.files}
"""Files that are made by code when they are asked for, by job; those of the others are shipped."""


def demo_job(name: str) -> Job:
    """A demo job by its short name."""
    return parse_job(DEMO_JOBS[name]())


def demo_model(name: str) -> bytes:
    """The model file of a demo job."""
    file = DEMO_JOBS[name]()["part"]["file"]
    if name in MADE:
        return MADE[name]()[file]
    return resources.files("fenrik.demo").joinpath("models", file).read_bytes()


def demo_files(name: str) -> dict[str, bytes]:
    """The further files of a demo job, by name."""
    made = MADE[name]() if name in MADE else {}
    return {file: made[file] for file in DEMO_JOBS[name]().get("files", [])}


def write_demo(folder: Any) -> None:
    """Write the demo jobs and their models into a folder, as files for the command line."""
    for name in DEMO_JOBS:
        (folder / f"{name}.json").write_text(demo_job(name).model_dump_json(indent=2, exclude_none=True), "utf-8")
        job = demo_job(name)
        assert job.part is not None
        for file, data in {job.part.file: demo_model(name), **demo_files(name)}.items():
            (folder / file).write_bytes(data)
