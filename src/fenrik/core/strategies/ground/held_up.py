"""Stock that a cutter could take, did neck, shank or holder not meet part or fixtures first: found level by level."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import tip_heights_grid
from fenrik.core.contact.drop import DropStack
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
        self, given: Given, heights: HeightField, tops: Points, fence: BaseGeometry | None, least_mm: float = 0.0
    ) -> None:
        """
        Args:
            heights: of the whole tool. tops: the stock over the same places. fence: where the axis is asked to be.
            least_mm: what is narrower is not missed.
        """
        self.given, self.heights, self.tops = given, heights, tops
        self.radius = given.cutter.radius_mm
        self._least = max(LEAST_SHARE * self.radius, least_mm)
        self._alone: Points | None = None
        index = heights.index
        if isinstance(index, DropStack) and len(index.parts) > 1:
            cutter, _ = index.parts[0]
            self._alone = tip_heights_grid(cutter, heights.x, heights.y, heights.floor_mm)
            if fence is not None:
                self._alone = np.where(self._within(fence), self._alone, np.inf)
        self._mm3, self._widest, self._higher = 0.0, 0.0, 0.0
        self._place = (0.0, 0.0, 0.0)
        self._last = np.zeros(tops.shape, bool)

    def look(
        self,
        level: float,
        above: float,
        lift_mm: float,
        stands: BaseGeometry,
        near: Callable[[BaseGeometry], bool],
    ) -> NDArray[np.bool_]:
        """Look at a level; gives (nx, ny) what stays there for this reason.

        Args:
            above: height of the level over it. lift_mm: what is left on floors. stands: the stock that is to be taken
                there. near: whether a place belongs to what is asked for.
        """
        held = self._last = np.zeros(self.tops.shape, bool)
        if self._alone is None:
            return held
        cell, low = self.heights.cell_mm, level - lift_mm
        blocked = (self._alone <= low) & (self.heights.z > low)
        if not blocked.any():
            return held
        could, takes = (self._covered(z <= low) for z in (self._alone, self.heights.z))
        beyond = could & ~takes & (self.tops > level + 1e-6)
        if not beyond.any():
            return held
        beyond &= self._within(stands)
        wide = ndimage.binary_opening(beyond, iterations=max(int(self._least / cell / 2), 1))
        labels, count = ndimage.label(wide)
        for label in range(1, count + 1):
            mine = labels == label
            if near(shapely.multipoints(self._places(mine))):
                held |= mine
                self._sum(mine, level, above, np.where(blocked, self.heights.z - np.maximum(self._alone, low), 0.0))
        return held

    def holds(self, x_mm: float, y_mm: float) -> bool:
        """Whether a place belongs to what was found at the level that was looked at last."""
        places = ((self.heights.x, x_mm), (self.heights.y, y_mm))
        i, j = (int(np.clip(np.rint((v - line[0]) / self.heights.cell_mm), 0, len(line) - 1)) for line, v in places)
        return bool(self._last[i, j])

    def _sum(self, mine: NDArray[np.bool_], level: float, above: float, higher: Points) -> None:
        """Add one place of a level.

        Args:
            higher: (nx, ny) how much the whole tool keeps the tip up.
        """
        cell = self.heights.cell_mm
        self._mm3 += float((np.minimum(self.tops, above) - level)[mine].sum()) * cell * cell
        self._higher = max(self._higher, float(higher[self._covered(mine)].max(initial=0.0)))
        room = ndimage.distance_transform_edt(mine)
        i, j = np.unravel_index(int(room.argmax()), room.shape)
        if room[i, j] >= self._widest:
            self._widest, self._place = room[i, j], (float(self.heights.x[i]), float(self.heights.y[j]), level)

    def _covered(self, places: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """What lies within the cutter's radius of places."""
        if not places.any():
            return places
        return np.asarray(ndimage.distance_transform_edt(~places) * self.heights.cell_mm <= self.radius)

    def _within(self, shape: BaseGeometry) -> NDArray[np.bool_]:
        shapely.prepare(shape)
        inside = shapely.contains_xy(shape, *np.meshgrid(self.heights.x, self.heights.y, indexing="ij"))
        return np.asarray(inside)

    def _places(self, mask: NDArray[np.bool_]) -> Points:
        i, j = np.nonzero(mask)
        return np.column_stack([self.heights.x[i], self.heights.y[j]])

    def found(self) -> list[Unreached]:
        if self._mm3 <= 0:
            return []
        longer = self.given.tool.stick_out_mm + self._higher + SPARE_MM
        return [kept_up(self._place, self._higher, self._mm3, longer)]


def kept_up(place: tuple[float, float, float], higher_mm: float, volume_mm3: float, stick_out_mm: float) -> Unreached:
    """What is told where shank or holder keep the tip up, with the stick-out that would do."""
    longer, cm3 = float(np.ceil(stick_out_mm)), volume_mm3 / MM3_PER_CM3
    return Unreached(
        reason=f"Shank or holder keep the tip up to {higher_mm:.1f} mm higher; "
        f"about {cm3:{'.2g' if cm3 < 99 else '.0f'}} cm³ stay.",
        place=place,
        level_mm=place[2],
        volume_mm3=volume_mm3,
        stick_out_mm=longer,
        advice=f"Set the tool to a stick-out of about {longer:.0f} mm, or take a longer one.",
    )
