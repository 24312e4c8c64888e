"""Short stiff drill that starts holes."""

from __future__ import annotations

from typing import Literal

from fenrik.core.tools.cutters.cutter import deg
from fenrik.core.tools.cutters.drill import Drill


class SpotDrill(Drill):
    """Short stiff drill that starts holes."""

    kind: Literal["spot drill"] = "spot drill"  # type: ignore[assignment]
    point_deg: float = deg(90, "Point angle", 60, 180)
