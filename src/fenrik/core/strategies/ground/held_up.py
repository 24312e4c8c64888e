"""Stock that a cutter could take, did neck, shank or holder not meet part or fixtures first: found level by level."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import tip_heights_grid
from fenrik.core.contact.region import HeightField
from fenrik.core.findings import Unreached
from fenrik.core.frames import Points
from fenrik.core.strategies.given import Given

LEAST_SHARE = 0.2
"""Of places that are told: the least width, as a share of the tool's radius."""
SPARE_MM = 1.0
"""How much longer than just long enough a stick-out is proposed."""
MM3_PER_CM3 = 1000.0


class HeldUp:
    """Sums up over the levels what stays because the whole tool does not come where its cutter would.

    At a level the cutter alone covers all within its radius of where its tip may be; what of the stock lies there, but
    not within the radius of where the whole tool may be, stays.
    """

    def __init__(
        self, given: Given, allowance_mm: float, heights: HeightField, tops: Points, fence: BaseGeometry | None
    ) -> None:
        """
        Args:
            heights: of the whole tool. tops: the stock over the same places. fence: where the axis is asked to be.
        """
        self.given, self.heights, self.tops = given, heights, tops
        self.radius = given.cutter.radius_mm
        self._alone: Points | None = None
        if given.body_indices(allowance_mm):
            index = given.drop_index(allowance_mm)
            self._alone = tip_heights_grid(index, heights.x, heights.y, heights.floor_mm)
            if fence is not None:
                within = shapely.contains_xy(fence, *np.meshgrid(heights.x, heights.y, indexing="ij"))
                self._alone = np.where(within, self._alone, np.inf)
        self._mm3, self._widest, self._higher = 0.0, 0.0, 0.0
        self._place = (0.0, 0.0, 0.0)

    def look(self, level: float, above: float, lift_mm: float) -> NDArray[np.bool_]:
        """Look at a level; gives (nx, ny) what stays there for this reason.

        Args:
            above: height of the level over it. lift_mm: what is left on floors.
        """
        nothing = np.zeros(self.tops.shape, bool)
        if self._alone is None:
            return nothing
        cell, low = self.heights.cell_mm, level - lift_mm
        blocked = (self._alone <= low) & (self.heights.z > low)
        if not blocked.any():
            return nothing
        could, takes = (self._covered(z <= low) for z in (self._alone, self.heights.z))
        held = (self.tops > level + 1e-6) & could & ~takes
        least = max(int(LEAST_SHARE * self.radius / cell / 2), 1)
        held = np.asarray(ndimage.binary_opening(held, iterations=least))
        if not held.any():
            return nothing
        self._mm3 += float((np.minimum(self.tops, above) - level)[held].sum()) * cell * cell
        needed = blocked & self._covered(held)
        self._higher = max(self._higher, float((self.heights.z - np.maximum(self._alone, low))[needed].max(initial=0)))
        room = ndimage.distance_transform_edt(held)
        i, j = np.unravel_index(int(room.argmax()), room.shape)
        if room[i, j] >= self._widest:
            self._widest, self._place = room[i, j], (float(self.heights.x[i]), float(self.heights.y[j]), level)
        return held

    def _covered(self, places: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """What lies within the cutter's radius of places."""
        if not places.any():
            return places
        return np.asarray(ndimage.distance_transform_edt(~places) * self.heights.cell_mm <= self.radius)

    def found(self) -> list[Unreached]:
        if self._mm3 <= 0:
            return []
        longer = float(np.ceil(self.given.tool.stick_out_mm + self._higher + SPARE_MM))
        return [
            Unreached(
                reason=f"Shank or holder would touch: the tip stays up to {self._higher:.1f} mm higher, and about "
                f"{self._mm3 / MM3_PER_CM3:.2g} cm³ stay.",
                place=self._place,
                level_mm=self._place[2],
                volume_mm3=self._mm3,
                stick_out_mm=longer,
                advice=f"Set the tool to a stick-out of {longer:.0f} mm, or let a longer one follow.",
            )
        ]
