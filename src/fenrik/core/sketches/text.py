"""Text as single strokes for engraving, in the public-domain Hershey font of the package `Hershey-Fonts`."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.sketches.curve import Curve

FONT = "futural"
CAPITAL_UNITS = 21.0
LINE_UNITS = 34.0
BASE_UNITS = 9.0
"""The font counts downwards; its baseline lies at 9."""


@lru_cache(maxsize=1)
def _font() -> Any:
    from HersheyFonts import HersheyFonts

    font = HersheyFonts()
    font.load_default_font(FONT)
    return font


def text_curves(text: str, height_mm: float, align: str = "left") -> list[Curve]:
    """Strokes of a text whose first baseline begins at the zero; capitals are `height_mm` tall.

    Raises:
        FenrikError: naming a character that the font does not have.
    """
    strange = sorted({c for c in text if c != "\n" and not 32 <= ord(c) < 127})
    if strange:
        raise fail(
            "text", f"holds {strange[0]!r}, which the font does not have.", "Use plain letters and digits.", text
        )
    scale = height_mm / CAPITAL_UNITS
    curves: list[Curve] = []
    for row, line in enumerate(text.split("\n")):
        strokes = [np.array(s, float) for s in _font().strokes_for_text(line)]
        strokes = [s for s in strokes if len(s) > 1]
        if not strokes:
            continue
        width = float(np.concatenate(strokes)[:, 0].max())
        shift = {"left": 0.0, "middle": -width / 2, "right": -width}[align]
        for s in strokes:
            places = (s * [1, -1] + [shift, BASE_UNITS - row * LINE_UNITS]) * scale
            curves.append(Curve.polyline(places))
    return curves
