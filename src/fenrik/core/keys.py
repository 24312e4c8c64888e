"""Keys of artefacts: the SHA-256 of their inputs in canonical form."""

from __future__ import annotations

import hashlib
import json
from typing import Any


def canonical(value: Any) -> bytes:
    """JSON with sorted keys and no spaces; equal inputs give equal bytes.

    Floats are written with Python's shortest round-trip form, whole ones as integers, so that 5 and 5.0 are one.
    """
    return json.dumps(_plain(value), sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()


def key_of(kind: str, version: int, **inputs: Any) -> str:
    """Key of an artefact of `kind` made by version `version` of its algorithm from `inputs`."""
    body = canonical({"kind": kind, "version": version, "inputs": inputs})
    return hashlib.sha256(body).hexdigest()


def sha256(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _plain(value: Any) -> Any:
    if hasattr(value, "model_dump"):
        value = value.model_dump(mode="json")
    if isinstance(value, dict):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    if isinstance(value, float) and value.is_integer() and abs(value) < 2**53:
        return int(value)
    return value
