"""Square-ended end mill."""

from __future__ import annotations

from typing import Literal

from fenrik.core.tools.cutters.cutter import CutterBase


class FlatCutter(CutterBase):
    """Square-ended end mill."""

    kind: Literal["flat"] = "flat"
