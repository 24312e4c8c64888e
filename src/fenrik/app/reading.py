"""Read model files in a process of their own, so that a damaged file can never take the server down."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from functools import lru_cache
from multiprocessing import get_context
from pathlib import PurePosixPath

from fenrik.core.errors import FenrikError, fail
from fenrik.core.sketches.files import DRAWING_SUFFIXES, read_drawing
from fenrik.core.solids import read_solid
from fenrik.core.solids.packing import pack_solid, unpack_solid
from fenrik.core.solids.reading import MAX_BYTES

MAX_DRAWING_BYTES = 32 * 1024 * 1024


def clean_name(name: str) -> str:
    """A file name without folders or anything that a shell or browser would trip over."""
    base = PurePosixPath(name.replace("\\", "/")).name
    kept = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "-" for c in base)
    return kept.strip(".-")[:120] or "model"


@lru_cache(maxsize=1)
def _pool() -> ProcessPoolExecutor:
    return ProcessPoolExecutor(max_workers=1, mp_context=get_context("spawn"), max_tasks_per_child=50)


class FenrikErrorBox(list):
    """Problems on their way between processes."""


def warm_reader() -> None:
    """Start the reading process before the first file is dropped."""
    _pool().submit(read_packed, b"", "warm.step", 1.0).result(timeout=120)


def read_packed(data: bytes, name: str, scale: float) -> bytes | FenrikErrorBox:
    """Read a model; errors come back as values, since they must cross a process."""
    try:
        return pack_solid(read_solid(data, name, scale))
    except FenrikError as error:
        return FenrikErrorBox(error.problems)


def read_apart(data: bytes, name: str, scale: float) -> bytes:
    """Read a model in another process, so that a damaged file can never take the server down.

    Raises:
        FenrikError: what is wrong with the file, also where reading it crashed.
    """
    if len(data) > MAX_BYTES:
        raise fail("part.file", f"is larger than {MAX_BYTES // 2**20} MB.", "Export only what this job needs.", name)
    try:
        result = _pool().submit(read_packed, data, name, scale).result(timeout=300)
    except BrokenProcessPool as error:
        _pool.cache_clear()
        raise fail(
            "part.file", "made the reader crash; it is damaged.", "Export it again from where it was made.", name
        ) from error
    except TimeoutError as error:
        raise fail("part.file", "takes longer than five minutes to read.", "Export a simpler model.", name) from error
    if isinstance(result, FenrikErrorBox):
        raise FenrikError(*result)
    assert isinstance(result, bytes)
    unpack_solid(result)
    return result


def check_drawing(data: bytes, name: str) -> None:
    """Read a drawing in the other process.

    Raises:
        FenrikError: what is wrong with the file.
    """
    if len(data) > MAX_DRAWING_BYTES:
        raise fail("file", f"is larger than {MAX_DRAWING_BYTES // 2**20} MB.", "Export only the curves needed.", name)
    try:
        result = _pool().submit(_drawing_problems, data, name).result(timeout=120)
    except BrokenProcessPool as error:
        _pool.cache_clear()
        raise fail("file", "made the reader crash; it is damaged.", "Export it again.", name) from error
    except TimeoutError as error:
        raise fail("file", "takes longer than two minutes to read.", "Export a simpler drawing.", name) from error
    if result:
        raise FenrikError(*result)


def _drawing_problems(data: bytes, name: str) -> FenrikErrorBox:
    try:
        read_drawing(data, name)
    except FenrikError as error:
        return FenrikErrorBox(error.problems)
    return FenrikErrorBox()


def is_drawing(name: str) -> bool:
    return PurePosixPath(name).suffix.lower() in DRAWING_SUFFIXES
