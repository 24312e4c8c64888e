"""Conical cutter for chamfers."""

from __future__ import annotations

from typing import Literal

from fenrik.core.tools.cutters._pointed import Tipped
from fenrik.core.tools.cutters.cutter import deg


class ChamferMill(Tipped):
    """Conical cutter for chamfers."""

    kind: Literal["chamfer mill"] = "chamfer mill"
    included_deg: float = deg(90, "Included angle", 10, 170)
