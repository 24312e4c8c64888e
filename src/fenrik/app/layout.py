"""The typed layout in which numbers go to the browser.

`FNRK`, the length of the head (uint32, little-endian), the head as JSON, padding to 8 bytes, then the arrays.
The head is {"meta": anything, "arrays": [{"name", "type", "shape", "offset"}]}; offsets count from the first array
and are multiples of 8; types are f4, i4, u4, u1, f8, i1; all little-endian, rows first.
"""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np
from fastapi import Response

MAGIC = b"FNRK"
_TYPES = {"float32": "f4", "float64": "f8", "int32": "i4", "uint32": "u4", "uint8": "u1", "int8": "i1"}


BINARY: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}
"""What the description of the interface says of answers in this layout."""


def binary(data: bytes) -> Response:
    """An answer in this layout."""
    # Packing numbers takes longer than sending them.
    headers = {"cache-control": "no-cache", "content-encoding": "identity"}
    return Response(data, media_type="application/octet-stream", headers=headers)


def encode(meta: Any, **arrays: np.ndarray) -> bytes:
    """Arrays and JSON as one block of bytes."""
    entries, chunks, offset = [], [], 0
    for name, array in arrays.items():
        data = np.ascontiguousarray(array)
        raw = data.tobytes()
        entries.append({"name": name, "type": _TYPES[data.dtype.name], "shape": list(data.shape), "offset": offset})
        pad = -len(raw) % 8
        chunks += [raw, b"\0" * pad]
        offset += len(raw) + pad
    head = json.dumps({"meta": meta, "arrays": entries}).encode()
    head += b" " * (-(len(head) + 8) % 8)
    return b"".join([MAGIC, struct.pack("<I", len(head)), head, *chunks])
