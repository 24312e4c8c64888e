"""Pieces that the demo's jobs are put together from."""

from __future__ import annotations

from typing import Any

from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS

SIDES = ("x_minus_mm", "x_plus_mm", "y_minus_mm", "y_plus_mm")
UP = [0.0, 0.0, 1.0]


def materials(name: str) -> dict[str, Any]:
    """The shop's materials, and the one that the part is of."""
    return {"materials": SHOP_MATERIALS, "material": name}


def rough(number: int, name: str, setup: str, tool: int, stepdown: float, stepover: float) -> dict[str, Any]:
    """A row that roughs in levels."""
    return {
        "number": number,
        "name": name,
        "setup": setup,
        "tool": tool,
        "params": {
            "strategy": "level roughing",
            "stepdown_mm": stepdown,
            "stepover_mm": stepover,
            "allowance_mm": 0.3,
            "floor_allowance_mm": 0.2,
            "tolerance_mm": 0.05,
        },
    }


def steadily(number: int, name: str, setup: str, tool: int, stepdown: float, engagement: float, **rest: Any) -> Any:
    """A row that roughs with a held load."""
    params = {"strategy": "steady roughing", "stepdown_mm": stepdown, "engagement_deg": engagement, **rest}
    left = {"allowance_mm": 0.3, "floor_allowance_mm": 0.2, "tolerance_mm": 0.05}
    return {"number": number, "name": name, "setup": setup, "tool": tool, "params": params | left}


def row(
    number: int, name: str, setup: str, tool: int, strategy: str, *targets: dict[str, Any], **rest: Any
) -> dict[str, Any]:
    """One row of a route on geometry that is named by rule."""
    own: dict[str, Any] = {k: rest.pop(k) for k in ("spindle_rpm", "cutting_feed_mm_min", "copies") if k in rest}
    params = {"strategy": strategy, "targets": list(targets), **rest}
    return {"number": number, "name": name, "setup": setup, "tool": tool, "params": params, **own}


def floor(z: float) -> dict[str, Any]:
    """The level faces at a height."""
    return {"kind": "faces", "faces": [{"normal": UP, "at_z": z}]}


def bores(radius: float) -> dict[str, Any]:
    """The inside cylinders of a radius."""
    return {"kind": "faces", "faces": [{"surface": "cylinder", "radius_mm": radius, "concave": True}]}


def shelf(*numbers: int) -> list[dict[str, Any]]:
    """Tools of the shop's library by number."""
    return [t for t in SHOP_TOOLS if t["number"] in numbers]
