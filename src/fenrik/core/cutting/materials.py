"""Materials by ISO 513 group, with what it takes to cut them.

Specific cutting force by O. Kienzle, "Die Bestimmung von Kräften und Leistungen an spanenden Werkzeugen" (VDI-Z 94,
1952): kc = kc1.1 · h^−mc with h in mm and kc1.1 in N/mm². Values of each material carry their own source.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from fenrik.core.errors import fail

Group = Literal["P", "M", "K", "N", "S", "H"]
GROUPS: dict[Group, str] = {
    "P": "steel",
    "M": "stainless steel",
    "K": "cast iron",
    "N": "non-ferrous",
    "S": "heat-resistant and titanium",
    "H": "hardened",
}
N_MM2: dict[str, Any] = {"unit": "N/mm²"}


class Material(BaseModel):
    """A workpiece material."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=80, title="Name")
    group: Group = Field(title="ISO 513 group")
    hardness_hb: float = Field(gt=0, le=800, title="Hardness", json_schema_extra={"unit": "HB"})
    kc11_n_mm2: float = Field(gt=50, le=10_000, title="Specific force kc1.1", json_schema_extra=N_MM2)
    mc: float = Field(gt=0, lt=1, title="Exponent mc")
    surface_speed_m_min: float = Field(
        gt=0, le=3000, title="Surface speed", description="Carbide, milling", json_schema_extra={"unit": "m/min"}
    )
    source: str = Field(default="", max_length=200, title="Source")


def specific_force(material: Material, chip_mm: float) -> float:
    """kc in N/mm² for a mean chip thickness.

    Raises:
        FenrikError: when the chip thickness is not above 0.
    """
    if not chip_mm > 0:
        raise fail("chip_mm", "must be above 0.", "Give the tooth some feed.", chip_mm)
    return float(material.kc11_n_mm2 * chip_mm**-material.mc)
