"""Compiled kernels that never outlive their source.

Numba keeps compiled code on disk and looks only at the file of the function itself; a kernel that calls another file's
would go on with that file's old code. `kernel` compiles and keeps as `numba.njit(cache=True)` does, but the stamp of
what is kept covers every kernel file that the function's own file imports, however far. The same stamp is part of the
keys of artefacts (`kernels_behind`), so that these go out of date with the code that made them.
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

# Before the threads of kernels begin: one that waits for others leaves its core to them. Where cores are shared,
# spinning made small kernels many times slower.
os.environ.setdefault("OMP_WAIT_POLICY", "passive")

import numba
from numba import njit
from numba.core.caching import CacheImpl, InTreeCacheLocator, UserProvidedCacheLocator, UserWideCacheLocator

_ROOT = Path(__file__).resolve().parents[2]
# Parsing some hundred files would take a second of every start.
_FROM = re.compile(r"^[ \t]*from (fenrik\.core[\w.]*) import (\([^)]*\)|.*)", re.MULTILINE)
_PLAIN = re.compile(r"^[ \t]*import (fenrik\.core[\w.]*)", re.MULTILINE)
_COMMENT = re.compile(r"#.*")
_KERNEL_FILE = re.compile(r"from fenrik\.core\.kernels import .*\b(kernel|leaf)\b")

F = TypeVar("F", bound=Callable[..., Any])


@cache
def _source(path: Path) -> bytes:
    return path.read_bytes()


@cache
def imports_of(path: Path) -> tuple[Path, ...]:
    """The files of the core that a file imports itself, by its import statements anywhere in it."""
    source = _source(path).decode()
    names = _PLAIN.findall(source)
    for module, listed in _FROM.findall(source):
        names += [module, *(f"{module}.{name}" for name in re.findall(r"\w+", _COMMENT.sub("", listed)))]
    bases = [_ROOT / name.replace(".", "/") for name in names]
    files = {p for base in bases for p in (base.with_suffix(".py"), base / "__init__.py") if p.is_file()}
    return tuple(sorted(files))


@cache
def files_behind(path: Path) -> tuple[Path, ...]:
    """A file of the core and all that it imports, however far."""
    seen = {path}
    todo = [path]
    while todo:
        for found in imports_of(todo.pop()):
            if found not in seen:
                seen.add(found)
                todo.append(found)
    return tuple(sorted(seen))


def kernel_files_behind(path: Path) -> tuple[Path, ...]:
    """Of the files behind a file, those that hold kernels, and the file itself."""
    return tuple(p for p in files_behind(path) if p == path or _KERNEL_FILE.search(_source(p).decode()))


def _hash_of(files: tuple[Path, ...]) -> str:
    whole = hashlib.sha256()
    for file in files:
        whole.update(file.relative_to(_ROOT).as_posix().encode() + b"\0" + _source(file) + b"\0")
    return whole.hexdigest()


@cache
def stamp(path: Path) -> str:
    """Hash of the sources of a kernel file and of all kernel files behind it."""
    return _hash_of(kernel_files_behind(path))


@cache
def kernels_behind(module: str) -> str:
    """Hash of the sources of all kernels that a module of the core can run: part of the keys of what it makes."""
    base = _ROOT / module.replace(".", "/")
    path = base.with_suffix(".py") if base.with_suffix(".py").is_file() else base / "__init__.py"
    return _hash_of(tuple(p for p in kernel_files_behind(path) if _KERNEL_FILE.search(_source(p).decode())))


def all_kernels() -> str:
    """Hash of the sources of all kernels, and of what compiles them."""
    return f"{numba.__version__} {_hash_of(tuple(p for p in _core() if _KERNEL_FILE.search(_source(p).decode())))}"


@cache
def all_sources() -> str:
    """Hash of all sources of the core: what was found by others may not be true any more."""
    return _hash_of(_core())


def _core() -> tuple[Path, ...]:
    return tuple(sorted((_ROOT / "fenrik" / "core").rglob("*.py")))


def _stamped(locator: Any) -> Any:
    """A place for compiled code whose stamp covers all kernel files behind a function's file."""

    class Stamped(locator):
        def get_source_stamp(self) -> str:
            return stamp(Path(self._py_file).resolve())

        @classmethod
        def from_function(cls, py_func: Callable[..., Any], py_file: str) -> Any:
            if not Path(py_file).resolve().is_relative_to(_ROOT / "fenrik"):
                return None
            return super().from_function(py_func, py_file)

    return Stamped


CacheImpl._locator_classes[:0] = [
    _stamped(locator) for locator in (UserProvidedCacheLocator, InTreeCacheLocator, UserWideCacheLocator)
]


def kernel(function: F | None = None, **options: Any) -> Any:
    """Compile a kernel, kept on disk for as long as none of the sources behind it changes; it divides by zero as NumPy.

    Args:
        options: as for `numba.njit` (`parallel`, `nogil`, `inline` …).
    """
    compiled = njit(cache=True, error_model="numpy", **options)
    return compiled if function is None else compiled(function)


def leaf(function: F | None = None, **options: Any) -> Any:
    """A kernel that makes no arrays itself. It does not count references to those that it is given: counting costs
    more than small arithmetic, and threads that count the same array wait for one another."""
    return kernel(function, _nrt=False, **options)
