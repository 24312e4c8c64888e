"""The sources behind a file of the core: what is made by them is out of date when one of them changes."""

from __future__ import annotations

import hashlib
import re
from functools import cache
from importlib.metadata import version
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
COMPILED = Path(__file__).parent / "__pycache__" / "kernels.done"
"""Says which kernels were compiled last; beside Numba's own files."""
# Parsing some hundred files would take a second of every start.
_FROM = re.compile(r"^[ \t]*from (fenrik\.core[\w.]*) import (\([^)]*\)|.*)", re.MULTILINE)
_PLAIN = re.compile(r"^[ \t]*import (fenrik\.core[\w.]*)", re.MULTILINE)
_COMMENT = re.compile(r"#.*")
_KERNEL_FILE = re.compile(r"from fenrik\.core\.kernels import .*\b(kernel|leaf)\b")


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
    bases = [ROOT / name.replace(".", "/") for name in names]
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
        whole.update(file.relative_to(ROOT).as_posix().encode() + b"\0" + _source(file) + b"\0")
    return whole.hexdigest()


@cache
def stamp(path: Path) -> str:
    """Hash of the sources of a kernel file and of all kernel files behind it."""
    return _hash_of(kernel_files_behind(path))


@cache
def kernels_behind(module: str) -> str:
    """Hash of the sources of all kernels that a module of the core can run: part of the keys of what it makes."""
    base = ROOT / module.replace(".", "/")
    path = base.with_suffix(".py") if base.with_suffix(".py").is_file() else base / "__init__.py"
    return _hash_of(tuple(p for p in kernel_files_behind(path) if _KERNEL_FILE.search(_source(p).decode())))


def all_kernels() -> str:
    """Hash of the sources of all kernels, and of what compiles them."""
    return f"{version('numba')} {_hash_of(tuple(p for p in _core() if _KERNEL_FILE.search(_source(p).decode())))}"


def is_warm() -> bool:
    """Whether all kernels are compiled as they are now."""
    return COMPILED.is_file() and COMPILED.read_text("utf-8") == all_kernels()


@cache
def all_sources() -> str:
    """Hash of all sources of the core: what was found by others may not be true any more."""
    return _hash_of(_core())


def _core() -> tuple[Path, ...]:
    return tuple(sorted((ROOT / "fenrik" / "core").rglob("*.py")))
