"""Paths that the tests of machines and arms share."""

import numpy as np

from fenrik.core.toolpath import Kind, Toolpath


def path_of(point, axis, feed=1000.0):
    """Straight cuts through places with the tool along axes of any length; the first row is a rapid."""
    n = len(point)
    kind = np.full(n, Kind.CUT, np.int8)
    path = Toolpath.plain(np.array(point, float), np.zeros(n, np.int8), np.zeros((n, 3)), kind, np.full(n, feed))
    path.axis[:] = axis / np.linalg.norm(axis, axis=1, keepdims=True)
    path.feed[0] = 0.0
    return path
