"""What tap and thread mill share."""

from __future__ import annotations

from typing import Any

from pydantic import Field, model_validator

from fenrik.core.cutting.threads import standard_threads
from fenrik.core.tools.cutters.cutter import CutterBase, mm


class Threading(CutterBase):
    thread: str = Field(default="", max_length=20, title="Thread", description="M6, 1/4-20 UNC …; empty: by its pitch")
    pitch_mm: float = mm("Pitch", ge=0.05)

    @model_validator(mode="before")
    @classmethod
    def _from_thread(cls, data: Any) -> Any:
        """The pitch (and for a tap the diameter) of a standard thread need not be typed."""
        if isinstance(data, dict) and (name := data.get("thread")):
            thread = standard_threads().get(str(name))
            if thread is None:
                raise ValueError(f"{name} is not a thread that Fenrik knows; leave it empty and give the pitch")
            data = {"pitch_mm": thread.pitch_mm, **data}
            if abs(float(data["pitch_mm"]) - thread.pitch_mm) > 1e-6:
                raise ValueError(f"the pitch {data['pitch_mm']} mm is not that of {name} ({thread.pitch_mm:g} mm)")
        return data
