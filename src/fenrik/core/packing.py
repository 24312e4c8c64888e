"""Arrays and plain JSON in one block of bytes; equal content gives equal bytes."""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np

META = "meta"


def pack(meta: Any, **arrays: np.ndarray) -> bytes:
    """Numpy's npz with the JSON beside the arrays."""
    text = np.frombuffer(json.dumps(meta, sort_keys=True).encode(), np.uint8)
    stream = io.BytesIO()
    np.savez(stream, allow_pickle=False, **{META: text}, **arrays)
    return stream.getvalue()


def unpack(data: bytes) -> tuple[Any, dict[str, np.ndarray]]:
    """The JSON and the arrays of `pack`."""
    with np.load(io.BytesIO(data), allow_pickle=False) as npz:
        arrays = {name: npz[name] for name in npz.files if name != META}
        return json.loads(npz[META].tobytes().decode()), arrays
