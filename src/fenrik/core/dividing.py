"""Rows divided into so many pieces each."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def in_pieces(count: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """For each piece of n rows that are divided into `count` (n,) pieces each: its row, and which piece of the row it
    is, from 0."""
    row = np.repeat(np.arange(len(count)), count)
    return row, np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count)
