"""Boring head set to a diameter, with one insert."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from fenrik.core.tools.cutters.cutter import MM, CutterBase, Family


class BoringHead(CutterBase):
    """Boring head set to a diameter, with one insert."""

    kind: Literal["boring head"] = "boring head"
    corner_radius_mm: float = Field(default=0.2, ge=0, le=20, title="Nose radius", json_schema_extra=MM)
    flutes: int = Field(default=1, ge=1, le=4, title="Inserts")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "boring"

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _nose_fits(self) -> BoringHead:
        if self.corner_radius_mm > min(self.radius_mm, self.flute_length_mm):
            raise ValueError("the nose is rounder than the head is wide or its edge long; make the radius smaller")
        return self
