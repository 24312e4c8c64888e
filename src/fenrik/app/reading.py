"""Foreign files, each read in a process of its own: models, drawings, lists of tools, jobs."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import PurePosixPath

from fenrik.app.readers import read_in_own_process, sweep
from fenrik.core.errors import fail
from fenrik.core.job import Job
from fenrik.core.job_reading import parse_job
from fenrik.core.sketches.files import DRAWING_SUFFIXES, read_drawing
from fenrik.core.solids import read_solid
from fenrik.core.solids.packing import pack_solid
from fenrik.core.solids.reading import MAX_BYTES
from fenrik.core.toolpath.cl_reading import CL_SUFFIXES, read_cl
from fenrik.core.tools import Tool
from fenrik.core.tools.library import tools_from_csv, tools_from_json, tools_to_json
from fenrik.core.unpacking import unpacked

MAX_DRAWING_BYTES = 32 * 1024 * 1024
MAX_DOCUMENT_BYTES = 20 * 1024 * 1024
MAX_LIST_BYTES = 8 * 1024 * 1024
DOCUMENT = "job.json"


def clean_name(name: str) -> str:
    """A file name without folders or anything that a shell or browser would trip over."""
    base = PurePosixPath(name.replace("\\", "/")).name
    kept = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "-" for c in base)
    return kept.strip(".-")[:120] or "model"


def is_drawing(name: str) -> bool:
    return PurePosixPath(name).suffix.lower() in DRAWING_SUFFIXES


def read_model(data: bytes, name: str, scale: float) -> bytes:
    """Read a model; gives the solid as it is kept.

    Raises:
        FenrikError: what is wrong with the file, also where reading it crashed or took too much.
    """
    _check_size(data, MAX_BYTES, "part.file", name)
    return read_in_own_process(_packed, data, name, scale, size=len(data), field="part.file", name=name)


def _packed(data: bytes, name: str, scale: float) -> bytes:
    return pack_solid(read_solid(data, name, scale))


def check_file(data: bytes, name: str) -> None:
    """Read a further file of a job, a drawing, cutter location text or a body, only to see that it can be.

    Raises:
        FenrikError: as `read_model`.
    """
    _check_size(data, MAX_DRAWING_BYTES if is_drawing(name) or is_cl(name) else MAX_BYTES, "file", name)
    read_in_own_process(_check_file, data, name, size=len(data), field="file", name=name)


def is_cl(name: str) -> bool:
    return PurePosixPath(name).suffix.lower() in CL_SUFFIXES


def _check_file(data: bytes, name: str) -> None:
    if is_drawing(name):
        read_drawing(data, name)
    elif is_cl(name):
        if len(read_cl(data.decode("utf-8", "replace")).path) < 2:
            raise fail("file", "holds no motion in the words of ISO 3592.", "Bring in cutter location text.", name)
    else:
        read_solid(data, name)


def read_tools(data: bytes, name: str) -> list[Tool]:
    """Tools of a JSON or CSV list.

    Raises:
        FenrikError: naming the tool and the field that is wrong.
    """
    _check_size(data, MAX_LIST_BYTES, "file", name)
    return tools_from_json(read_in_own_process(_tools, data, size=len(data), field="file", name=name))


def _tools(data: bytes) -> str:
    as_json = data.lstrip()[:1] in (b"{", b"[")
    return tools_to_json(tools_from_json(data) if as_json else tools_from_csv(data.decode("utf-8-sig", "replace")))


@dataclass(frozen=True)
class JobFile:
    """What a file of a job holds: the document, the model with its solid as it is kept, and further files."""

    document: str
    model: bytes | None = None
    solid: bytes = b""
    files: dict[str, bytes] = field(default_factory=dict)

    @property
    def job(self) -> Job:
        return parse_job(json.loads(self.document))


def read_job_file(data: bytes, name: str) -> JobFile:
    """A job from an exported ZIP, or from a bare document.

    Raises:
        FenrikError: where it is no job, or one of its files cannot be read or is missing.
    """
    _check_size(data, MAX_BYTES + MAX_DOCUMENT_BYTES, "file", name)
    return read_in_own_process(_job_file, data, size=len(data), field="file", name=name)


def _job_file(data: bytes) -> JobFile:
    if data[:2] != b"PK":
        job = _job(data)
        there: dict[str, bytes] = {}
    else:
        there = dict(unpacked(data, MAX_BYTES + MAX_DOCUMENT_BYTES))
        if DOCUMENT not in there:
            raise fail("file", f"holds no {DOCUMENT}.", "Choose a file made by Export.")
        job = _job(there[DOCUMENT])
    missing = [f for f in job.files if f not in there]
    if missing:
        raise fail("file", f"lacks {missing[0]}, which the job names.", "Export the job again.")
    files = {f: there[f] for f in job.files}
    for name, content in files.items():
        _check_file(content, name)
    if job.part is None or job.part.file not in there:
        return JobFile(job.model_copy(update={"part": None}).model_dump_json(), files=files)
    model = there[job.part.file]
    return JobFile(job.model_dump_json(), model, _packed(model, job.part.file, job.part.scale), files)


def _job(data: bytes) -> Job:
    try:
        return parse_job(json.loads(data))
    except (ValueError, RecursionError) as error:
        raise fail("file", f"is not a job: {error}.", "Choose a file made by Export.") from error


def _check_size(data: bytes, most: int, field: str, name: str) -> None:
    if len(data) > most:
        raise fail(field, f"is larger than {most // 2**20} MB.", "Export only what this job needs.", name)


def warm_reader() -> None:
    """Load what readers need before the first file is dropped, and throw away what killed ones left."""
    sweep()
    read_in_own_process(_nothing, size=0, field="file", name="")


def _nothing() -> None:
    pass
