"""Compiled kernels that never outlive their source.

Numba keeps compiled code on disk and looks only at the file of the function itself; a kernel that calls another file's
would go on with that file's old code. `kernel` compiles and keeps as `numba.njit(cache=True)` does, but the stamp of
what is kept covers every kernel file that the function's own file imports, however far. The same stamp is part of the
keys of artefacts (`kernels_behind`), so that these go out of date with the code that made them.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

# Before the threads of kernels begin: one that waits for others leaves its core to them. Where cores are shared,
# spinning made small kernels many times slower.
os.environ.setdefault("OMP_WAIT_POLICY", "passive")

from numba import njit
from numba.core.caching import CacheImpl, InTreeCacheLocator, UserProvidedCacheLocator, UserWideCacheLocator

from fenrik.core import sources

F = TypeVar("F", bound=Callable[..., Any])


def _stamped(locator: Any) -> Any:
    """A place for compiled code whose stamp covers all kernel files behind a function's file."""

    class Stamped(locator):
        def get_source_stamp(self) -> str:
            return sources.stamp(Path(self._py_file).resolve())

        @classmethod
        def from_function(cls, py_func: Callable[..., Any], py_file: str) -> Any:
            if not Path(py_file).resolve().is_relative_to(sources.ROOT / "fenrik"):
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
