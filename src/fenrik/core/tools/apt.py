"""The seven parameters of the APT general cutter."""

from __future__ import annotations

from fenrik.core.tools.cutters import ChamferMill, Cutter, Drill, EngravingCutter, TaperedCutter


def apt_parameters(cutter: Cutter) -> tuple[float, float, float, float, float, float, float]:
    """The seven parameters d, r, e, f, α, β, h of the APT general cutter (ISO 3592 `CUTTER/`).

    α is the angle of the end below the corner, β that of the side above it (deg); (e, f) is the corner's centre.
    Contours that the seven cannot say (barrels, own contours) are given by the cylinder round them.
    """
    r, d, h = cutter.corner_mm, cutter.diameter_mm, cutter.flute_length_mm
    if isinstance(cutter, Drill):
        return (d, 0.0, d / 2, cutter.point_mm, 90.0 - cutter.point_deg / 2, 0.0, h)
    if isinstance(cutter, ChamferMill | EngravingCutter):
        return (cutter.tip_diameter_mm, 0.0, cutter.tip_diameter_mm / 2, 0.0, 0.0, cutter.included_deg / 2, h)
    if isinstance(cutter, TaperedCutter):
        return (d, r, d / 2 - r, r, 0.0, cutter.taper_deg, h)
    return (d, r, d / 2 - r, r, 0.0, 0.0, h)
