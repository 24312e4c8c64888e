"""A cutter with a contour of its own, for example from a DXF file: places (radius, height) and bulges."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.contour import Piece, line_through
from fenrik.core.tools.cutters.cutter import CutterBase


class ContourCutter(CutterBase):
    """A cutter with a contour of its own, for example from a DXF file: places (radius, height) and bulges.

    A bulge is the tangent of a quarter of the arc's angle, as in DXF; 0 for a straight piece.
    """

    kind: Literal["own contour"] = "own contour"
    places: list[tuple[float, float, float]] = Field(min_length=2, max_length=500, title="Contour")

    @model_validator(mode="after")
    def _is_a_contour(self) -> ContourCutter:
        first = self.places[0]
        if abs(first[0]) > 1e-6 or abs(first[1]) > 1e-6:
            raise ValueError("the contour must begin at the tip, at radius 0 and height 0")
        if any(r < -1e-9 or z < -1e-9 for r, z, _ in self.places):
            raise ValueError("the contour crosses the axis or goes below the tip")
        widest = 2 * max(max(p.r0, p.r1) for p in self.contour())
        if abs(widest - self.diameter_mm) > 0.01:
            raise ValueError(f"the contour is {widest:.4g} mm wide; the diameter says {self.diameter_mm:g} mm")
        return self

    def contour(self) -> list[Piece]:
        pieces = []
        for (r0, z0, bulge), (r1, z1, _) in zip(self.places[:-1], self.places[1:], strict=True):
            if abs(bulge) < 1e-9:
                pieces += line_through((r0, z0), (r1, z1))
                continue
            chord = math.dist((r0, z0), (r1, z1))
            k = (1 - bulge * bulge) / (4 * bulge)
            centre = ((r0 + r1) / 2 - k * (z1 - z0), (z0 + z1) / 2 + k * (r1 - r0))
            if chord > 1e-12:
                pieces.append(Piece(r0, z0, r1, z1, centre, inward=bulge < 0))
        return pieces
