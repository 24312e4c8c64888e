"""A region that is kept away from, grown by many distances.

A disc that fits between what is covered lies in one connected gap of it, so gaps are looked at one by one: only those
about the place that is asked for, and each once for a distance. Growing the whole at once costs most of its time in
gaps that nobody asks for.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.regions.polygons import Rings, components, offset

Window = tuple[Points, Points]
"""Lowest and highest corner (x, y) of where something is asked."""


@dataclass(frozen=True)
class Cover:
    """A region by what is seen of it from outside, and the gaps within.

    Attributes:
        outside: its outlines without the gaps. gaps: each an outer ring and those of what stands in it, as regions.
    """

    outside: Rings
    gaps: list[Rings]
    _kept: dict[tuple[float, int], Rings] = field(default_factory=dict, repr=False, compare=False)

    @classmethod
    def of(cls, rings: Rings) -> Cover:
        """The cover of a region whose rings do not cross."""
        turned = [r[::-1] for r in rings]
        gaps = components(turned)
        held = {id(r) for gap in gaps for r in gap}
        return cls([r for r, back in zip(rings, turned, strict=True) if id(back) not in held], gaps)

    @cached_property
    def rings(self) -> Rings:
        """The region."""
        return [*self.outside, *(r[::-1] for gap in self.gaps for r in gap)]

    def grown(self, distance_mm: float, window: Window | None = None) -> Rings:
        """Places nearer to the region than a distance; below 0, places of it that are farther inside.

        Args:
            window: where it is asked for; gaps beyond it may be told as covered.
        """
        if distance_mm <= 0:
            return self._once(distance_mm, -1, self.rings, distance_mm)
        found = list(self._once(distance_mm, -1, self.outside, distance_mm))
        for k in self._about(window):
            # In a gap that is narrower than twice the distance no place is left.
            if np.ptp(self._bounds[k], axis=0).min() > 2 * distance_mm:
                found += [r[::-1] for r in self._once(distance_mm, int(k), self.gaps[k], -distance_mm)]
        return found

    @cached_property
    def _bounds(self) -> Points:
        return np.array([[gap[0].min(axis=0), gap[0].max(axis=0)] for gap in self.gaps]).reshape(-1, 2, 2)

    def _about(self, window: Window | None) -> np.ndarray:
        """Numbers of the gaps that come into a window."""
        low, high = (-np.inf, np.inf) if window is None else window
        return np.flatnonzero(np.all((self._bounds[:, 1] >= low) & (self._bounds[:, 0] <= high), axis=1))

    def _once(self, distance_mm: float, gap: int, region: Rings, by_mm: float) -> Rings:
        key = distance_mm, gap
        if key not in self._kept:
            self._kept[key] = offset(region, by_mm)
        return self._kept[key]
