"""The shop's library: about seventy tools, twelve materials and two machines, all made up."""

from __future__ import annotations

from typing import Any

from fenrik.core.cutting.threads import standard_threads
from fenrik.core.tools.holders import standard_holders

Row = dict[str, Any]


def _held(nose: str, taper: str = "ISO 40") -> Row:
    holder = standard_holders()[f"{taper} {nose}"]
    return {"holder_name": holder.name, "holder": [s.model_dump() for s in holder.sections]}


def _nose(diameter: float) -> str:
    if diameter <= 10:
        return "collet chuck 16"
    return "collet chuck 25" if diameter <= 16 else "collet chuck 32"


def _tool(number: int, name: str, cutter: Row, stick_out: float, shank: float | None = None, **rest: Any) -> Row:
    held = rest.pop("held", None) or _held(_nose(shank or cutter["diameter_mm"]))
    speeds = {"spindle_rpm": 6000, "cutting_feed_mm_min": 800, "entry_feed_mm_min": 300, "exit_feed_mm_min": 3000}
    return {
        "number": number,
        "name": name,
        "cutter": cutter,
        "stick_out_mm": stick_out,
        **({"shank_diameter_mm": shank} if shank else {}),
        **held,
        **(speeds | rest),
    }


def _reach(diameter: float) -> float:
    return min(7.5 * diameter, 120.0)


def _neck(diameter: float) -> Row:
    """A neck thinner than the cutter, up to the reach: mills of 6 and more pass a wall that keeps its allowance."""
    thinner = min(0.05 * diameter + 0.1, 0.2) if diameter < 6 else min(0.05 * diameter + 0.4, 1.0)
    long = _reach(diameter) - 1.5 * diameter
    return {"neck_diameter_mm": round(diameter - thinner, 2), "neck_length_mm": long, "coating": "TiAlN"}


def _mills() -> list[Row]:
    rows = []
    for k, d in enumerate((2, 3, 4, 5, 6, 8, 10, 12, 16, 20)):
        shank = max(d, 6)
        flutes = 3 if d < 12 else 4
        rows.append(
            _tool(
                101 + k,
                f"End mill {d}",
                {"kind": "flat", "diameter_mm": d, "flute_length_mm": 2.5 * d, "flutes": flutes},
                3 * d + 18,
                shank,
                coating="TiAlN",
                use="both",
            )
        )
    for k, (d, r) in enumerate(((6, 0.5), (8, 1), (10, 1), (12, 1.5), (16, 2))):
        cutter = {"kind": "bull-nose", "diameter_mm": d, "corner_radius_mm": r, "flute_length_mm": 2.2 * d, "flutes": 4}
        rows.append(_tool(121 + k, f"Bull-nose {d} r{r:g}", cutter, 3 * d + 18, coating="TiAlN", use="both"))
    for k, d in enumerate((2, 3, 4, 6, 8, 10, 12)):
        cutter = {"kind": "ball", "diameter_mm": d, "flute_length_mm": 2 * d, "flutes": 2}
        rows.append(_tool(131 + k, f"Ball {d}", cutter, 3 * d + 20, max(d, 6), coating="TiAlN", use="finishing"))
    # Necked, for deep and narrow places: the flutes short, what stands over them thinner.
    for k, d in enumerate((2, 3, 4, 6, 8, 10, 12, 16, 20)):
        cutter = {"kind": "flat", "diameter_mm": d, "flute_length_mm": 1.5 * d, "flutes": 4 if d > 10 else 3}
        rows.append(_tool(161 + k, f"End mill {d}, long neck", cutter, _reach(d) + 8, max(d, 6), **_neck(d)))
    for k, d in enumerate((2, 4, 6, 8, 12)):
        cutter = {"kind": "ball", "diameter_mm": d, "flute_length_mm": 1.5 * d, "flutes": 2}
        held = _neck(d) | {"use": "finishing"}
        rows.append(_tool(171 + k, f"Ball {d}, long neck", cutter, _reach(d) + 8, max(d, 6), **held))
    cutter = {"kind": "tapered", "diameter_mm": 2, "corner_radius_mm": 1, "taper_deg": 3, "flute_length_mm": 20}
    rows.append(_tool(141, "Tapered ball 2, 3°", cutter, 40, 6, use="finishing"))
    barrel = {
        "kind": "barrel",
        "diameter_mm": 10,
        "corner_radius_mm": 2,
        "flank_radius_mm": 85,
        "widest_at_mm": 15,
        "flute_length_mm": 22,
    }
    rows.append(_tool(142, "Barrel 10 R85", barrel, 50, 10, use="finishing"))
    rows.append(
        _tool(
            143,
            "Lollipop 6",
            {"kind": "lollipop", "diameter_mm": 6, "neck_diameter_mm": 4, "flute_length_mm": 12},
            40,
            6,
        )
    )
    rows.append(
        _tool(
            144,
            "Slotting cutter 25 × 4",
            {"kind": "slotting cutter", "diameter_mm": 25, "neck_diameter_mm": 10, "flute_length_mm": 4, "flutes": 8},
            40,
            10,
        )
    )
    rows.append(
        _tool(
            145,
            "Dovetail 16, 60°",
            {"kind": "dovetail", "diameter_mm": 16, "angle_deg": 60, "flute_length_mm": 6, "flutes": 6},
            40,
            8,
        )
    )
    face = {"kind": "face mill", "diameter_mm": 50, "lead_deg": 90, "flute_length_mm": 8, "flutes": 5}
    rows.append(_tool(151, "Face mill 50", face, 45, 48, held=_held("face mill arbor 27"), use="both"))
    rows.append(
        _tool(
            152,
            "Face mill 63, 45°",
            {**face, "diameter_mm": 63, "lead_deg": 45, "flute_length_mm": 5, "flutes": 6},
            45,
            50,
            held=_held("face mill arbor 27"),
        )
    )
    return rows


def _drills() -> list[Row]:
    rows = [
        _tool(
            201,
            "Spot drill 10, 90°",
            {"kind": "spot drill", "diameter_mm": 10, "point_deg": 90, "flute_length_mm": 25},
            45,
        ),
        _tool(
            202,
            "Centre drill A2.5",
            {
                "kind": "centre drill",
                "diameter_mm": 6.3,
                "pilot_diameter_mm": 2.5,
                "pilot_length_mm": 3.1,
                "flute_length_mm": 8,
            },
            32,
        ),
    ]
    for k, d in enumerate((2.5, 3.3, 4.2, 5.0, 5.5, 6.0, 6.6, 6.8, 7.8, 8.5, 9.0, 10.2, 11.0, 14.0)):
        cutter = {"kind": "drill", "diameter_mm": d, "point_deg": 140, "flute_length_mm": round(4 * d + 14, 1)}
        rows.append(_tool(211 + k, f"Drill {d:g}", cutter, round(4 * d + 30, 1), coating="TiN"))
    for k, d in enumerate((6.0, 8.0, 10.0)):
        cutter = {"kind": "reamer", "diameter_mm": d, "lead_mm": 0.5, "flute_length_mm": 3 * d, "flutes": 6}
        rows.append(_tool(231 + k, f"Reamer {d:g} H7", cutter, 5 * d + 25))
    threads = standard_threads()
    for k, name in enumerate(("M3", "M4", "M5", "M6", "M8", "M10", "M12")):
        t = threads[name]
        cutter = {
            "kind": "tap",
            "diameter_mm": t.major_mm,
            "thread": name,
            "pitch_mm": t.pitch_mm,
            "flute_length_mm": round(2 * t.major_mm + 6, 1),
            "flutes": 3,
        }
        rows.append(
            _tool(
                241 + k,
                f"Tap {name}",
                cutter,
                round(4 * t.major_mm + 25, 1),
                material="HSS",
                held=_held("tap chuck 12"),
            )
        )
    mill = {
        "kind": "thread mill",
        "diameter_mm": 7.9,
        "pitch_mm": 1.5,
        "neck_diameter_mm": 5.8,
        "flute_length_mm": 20,
        "flutes": 3,
        "thread": "M10",
    }
    rows.append(_tool(251, "Thread mill M10", mill, 36, 8))
    single = {
        "kind": "thread mill",
        "diameter_mm": 5.9,
        "pitch_mm": 1.0,
        "neck_diameter_mm": 4.4,
        "flute_length_mm": 2,
        "teeth": "single",
    }
    rows.append(_tool(252, "Thread mill, one tooth", single, 30, 6))
    rows.append(
        _tool(
            261,
            "Boring head 20",
            {"kind": "boring head", "diameter_mm": 20, "corner_radius_mm": 0.2, "flute_length_mm": 12},
            70,
            16,
            held=_held("collet chuck 32"),
        )
    )
    for number, diameter, bar in ((262, 18, 8), (263, 30, 12)):
        back = {"kind": "back boring bar", "diameter_mm": diameter, "bar_diameter_mm": bar, "flute_length_mm": 6}
        rows.append(
            _tool(number, f"Back boring bar {diameter}", back, 60, bar, spindle_rpm=900, cutting_feed_mm_min=60)
        )
    return rows


def _edges() -> list[Row]:
    rows = []
    for k, (d, tip) in enumerate(((6, 0.2), (10, 1), (16, 3))):
        cutter = {
            "kind": "chamfer mill",
            "diameter_mm": d,
            "tip_diameter_mm": tip,
            "included_deg": 90,
            "flute_length_mm": d,
            "flutes": 4,
        }
        rows.append(_tool(301 + k, f"Chamfer mill {d}, 90°", cutter, 3 * d + 15))
    for k, angle in enumerate((30, 60)):
        cutter = {
            "kind": "engraving",
            "diameter_mm": 6,
            "tip_diameter_mm": 0.2,
            "included_deg": angle,
            "flute_length_mm": 12,
        }
        rows.append(_tool(311 + k, f"Engraver {angle}°", cutter, 35))
    return rows


SHOP_TOOLS: list[Row] = [*_mills(), *_drills(), *_edges()]

_KIENZLE = "kc1.1 and mc as printed in workshop tables; value from memory"
SHOP_MATERIALS: list[Row] = [
    {
        "name": name,
        "group": group,
        "hardness_hb": hb,
        "kc11_n_mm2": kc,
        "mc": mc,
        "surface_speed_m_min": vc,
        "source": _KIENZLE,
    }
    for name, group, hb, kc, mc, vc in (
        ("Mild steel", "P", 130, 1600, 0.24, 180),
        ("Carbon steel, normalised", "P", 190, 1700, 0.25, 150),
        ("Alloy steel, 42CrMo4", "P", 280, 2100, 0.26, 120),
        ("Tool steel, annealed", "P", 230, 2000, 0.25, 110),
        ("Stainless steel, austenitic", "M", 180, 2100, 0.21, 90),
        ("Stainless steel, martensitic", "M", 240, 2000, 0.22, 80),
        ("Grey cast iron", "K", 200, 1150, 0.28, 160),
        ("Nodular cast iron", "K", 220, 1350, 0.28, 140),
        ("Aluminium, wrought", "N", 95, 700, 0.25, 500),
        ("Gunmetal", "N", 90, 780, 0.18, 220),
        ("Titanium alloy", "S", 330, 1400, 0.23, 55),
        ("Steel, hardened", "H", 550, 4200, 0.25, 60),
    )
]
