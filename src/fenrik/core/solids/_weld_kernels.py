"""Numba kernels that join equal corners and pair triangles over their edges, in linear time by hashing."""

from __future__ import annotations

import numpy as np

from fenrik.core.kernels import kernel

EMPTY = -1


@kernel
def _mix(a: int, b: int, c: int) -> int:
    """A well-spread hash of three 64-bit numbers (the finaliser of splitmix64 on each)."""
    h = np.uint64(0x9E3779B97F4A7C15)
    for value in (np.uint64(a), np.uint64(b), np.uint64(c)):
        h ^= value
        h = (h ^ (h >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        h = (h ^ (h >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        h ^= h >> np.uint64(31)
    return h  # type: ignore[return-value]


@kernel
def _table_size(count: int) -> int:
    size = 16
    while size < 2 * count:
        size *= 2
    return size


@kernel
def join_equal(bits: np.ndarray, index: np.ndarray, first: np.ndarray) -> int:
    """Number equal rows alike. `bits` is (n, 3) int64; fills `index` (n,) and `first` (first row of each number)."""
    size = _table_size(len(bits))
    table = np.full(size, EMPTY, np.int32)
    mask = np.uint64(size - 1)
    count = 0
    for i in range(len(bits)):
        slot = _mix(bits[i, 0], bits[i, 1], bits[i, 2]) & mask
        while True:
            owner = table[slot]
            if owner == EMPTY:
                table[slot] = count
                first[count] = i
                index[i] = count
                count += 1
                break
            j = first[owner]
            if bits[j, 0] == bits[i, 0] and bits[j, 1] == bits[i, 1] and bits[j, 2] == bits[i, 2]:
                index[i] = owner
                break
            slot = (slot + np.uint64(1)) & mask
    return count


@kernel
def pair_edges(triangles: np.ndarray, ends: np.ndarray, owners: np.ndarray, uses: np.ndarray) -> int:
    """Each edge once: its `ends` (lower number first), its first two `owners` and how many triangles `use` it."""
    size = _table_size(3 * len(triangles))
    table = np.full(size, EMPTY, np.int32)
    mask = np.uint64(size - 1)
    count = 0
    for t in range(len(triangles)):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            if a > b:
                a, b = b, a
            slot = _mix(a, b, 0) & mask
            while True:
                e = table[slot]
                if e == EMPTY:
                    table[slot] = count
                    ends[count, 0], ends[count, 1] = a, b
                    owners[count, 0], owners[count, 1] = t, -1
                    uses[count] = 1
                    count += 1
                    break
                if ends[e, 0] == a and ends[e, 1] == b:
                    if uses[e] == 1:
                        owners[e, 1] = t
                    uses[e] += 1
                    break
                slot = (slot + np.uint64(1)) & mask
    return count


@kernel
def _root(parent: np.ndarray, i: int) -> int:
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@kernel
def label_patches(count: int, left: np.ndarray, right: np.ndarray, labels: np.ndarray) -> int:
    """Number connected triangles alike, in the order of their first triangle; gives how many patches there are."""
    parent = np.arange(count).astype(np.int32)
    for k in range(len(left)):
        a, b = _root(parent, left[k]), _root(parent, right[k])
        if a < b:
            parent[b] = a
        elif b < a:
            parent[a] = b
    patches = 0
    for i in range(count):
        root = _root(parent, i)
        if root == i:
            labels[i] = patches
            patches += 1
        else:
            labels[i] = labels[root]
    return patches
