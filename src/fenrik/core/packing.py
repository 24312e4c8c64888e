"""Arrays and plain JSON in one block of bytes; equal content gives equal bytes.

`FNPK`, the length of the head (uint32), the head as JSON, then the arrays one after another, each from a multiple of 8.
(NumPy's own format is read with Python's parser, which in CPython 3.11 fails when several threads use it.)
"""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np

MAGIC = b"FNPK"


def pack(meta: Any, **arrays: np.ndarray) -> bytes:
    """The block of arrays (of numbers or truth values) and what else is to be told as JSON."""
    kept = {name: np.ascontiguousarray(array) for name, array in arrays.items()}
    entries = [[name, array.dtype.str, list(np.shape(arrays[name]))] for name, array in kept.items()]
    head = json.dumps({"meta": meta, "arrays": entries}, sort_keys=True).encode()
    head += b" " * (-(len(head) + 8) % 8)
    chunks = [MAGIC, struct.pack("<I", len(head)), head]
    for array in kept.values():
        chunks += [array.tobytes(), b"\0" * (-array.nbytes % 8)]
    return b"".join(chunks)


def unpack(data: bytes) -> tuple[Any, dict[str, np.ndarray]]:
    """The JSON and the arrays of `pack`.

    Raises:
        ValueError: when the block is damaged.
    """
    if data[:4] != MAGIC or len(data) < 8:
        raise ValueError("not a packed block")
    (size,) = struct.unpack_from("<I", data, 4)
    head = json.loads(data[8 : 8 + size])
    arrays, at = {}, 8 + size
    for name, kind, shape in head["arrays"]:
        dtype, count = np.dtype(kind), int(np.prod(shape, dtype=np.int64))
        arrays[name] = np.frombuffer(data, dtype, count, at).reshape(shape).copy()
        at += -(-count * dtype.itemsize // 8) * 8
    return head["meta"], arrays
