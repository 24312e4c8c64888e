"""Cutters by kind: the numbers that people know them by, the rules that tie the numbers, and their contour."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from fenrik.core.cutting.threads import standard_threads
from fenrik.core.tools.contour import Piece, corner_arc, line_through

MM: dict[str, Any] = {"unit": "mm"}
DEG: dict[str, Any] = {"unit": "deg"}
Family = Literal["milling", "face milling", "drilling", "reaming", "tapping", "thread milling", "engraving", "boring"]


def _mm(title: str, description: str | None = None, **limits: Any) -> Any:
    return Field(title=title, description=description, json_schema_extra=MM, **({"gt": 0, "le": 1000} | limits))


def _deg(default: float, title: str, low: float, high: float, description: str | None = None) -> Any:
    return Field(default=default, gt=low, lt=high, title=title, description=description, json_schema_extra=DEG)


class CutterBase(BaseModel):
    """What every cutter has."""

    model_config = ConfigDict(extra="forbid")
    diameter_mm: float = Field(gt=0, le=500, title="Diameter", json_schema_extra=MM)
    flute_length_mm: float = Field(gt=0, le=1000, title="Cutting length", json_schema_extra=MM)
    flutes: int = Field(default=2, ge=1, le=40, title="Flutes")
    centre_cutting: bool = Field(default=True, title="Centre cutting")

    @property
    def family(self) -> Family:
        """How it is used; cutting data go by it."""
        return "milling"

    @property
    def radius_mm(self) -> float:
        return self.diameter_mm / 2

    @property
    def corner_mm(self) -> float:
        """Radius of the end's corner; 0 for a sharp one."""
        return 0.0

    @property
    def shank_mm(self) -> float:
        """Diameter of what stands above the cutting part where the tool says nothing of it."""
        return self.diameter_mm

    @property
    def edge_length_mm(self) -> float:
        """How far up from the tip it cuts; what its contour has above that is neck."""
        return math.inf

    @property
    def only(self) -> str:
        """What keeps it from most work, in words; empty where nothing does."""
        return ""

    def contour(self) -> list[Piece]:
        """The cutting part from its tip up to the end of the cutting length."""
        r = self.radius_mm
        return [*corner_arc(r, self.corner_mm), *line_through((r, self.corner_mm), (r, self.flute_length_mm))]


class FlatCutter(CutterBase):
    """Square-ended end mill."""

    kind: Literal["flat"] = "flat"


class BallCutter(CutterBase):
    """Ball-nose cutter."""

    kind: Literal["ball"] = "ball"

    @property
    def corner_mm(self) -> float:
        return self.radius_mm

    @model_validator(mode="after")
    def _long_enough(self) -> BallCutter:
        if self.flute_length_mm < self.radius_mm:
            raise ValueError(
                f"the cutting length {self.flute_length_mm:g} mm is shorter than the ball's radius "
                f"{self.radius_mm:g} mm; make it at least as long"
            )
        return self


class BullNoseCutter(CutterBase):
    """End mill with a corner radius."""

    kind: Literal["bull-nose"] = "bull-nose"
    corner_radius_mm: float = _mm("Corner radius")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _corner_fits(self) -> BullNoseCutter:
        if self.corner_radius_mm >= self.radius_mm:
            raise ValueError(
                f"the corner radius {self.corner_radius_mm:g} mm must be below half the diameter "
                f"({self.radius_mm:g} mm); for a full radius use a ball cutter"
            )
        if self.flute_length_mm < self.corner_radius_mm:
            raise ValueError("the cutting length is shorter than the corner radius; make it longer")
        return self


class FaceMill(CutterBase):
    """Face mill with inserts; its sides lean by the lead angle."""

    kind: Literal["face mill"] = "face mill"
    lead_deg: float = Field(
        default=90, ge=30, le=90, title="Lead angle", description="Between insert and floor", json_schema_extra=DEG
    )
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "face milling"

    @model_validator(mode="after")
    def _leaves_a_flat(self) -> FaceMill:
        if self._tip_radius() <= 0:
            raise ValueError("the lead angle takes away the whole face; shorten the cutting length or widen the angle")
        return self

    def _tip_radius(self) -> float:
        return self.radius_mm - self.flute_length_mm / math.tan(math.radians(self.lead_deg))

    def contour(self) -> list[Piece]:
        return line_through((0, 0), (self._tip_radius(), 0), (self.radius_mm, self.flute_length_mm))


class _Pointed(CutterBase):
    """A cone at the end; `tip_mm` flat at its point."""

    def _cone(self, tip_mm: float, included_deg: float) -> list[Piece]:
        rise = (self.radius_mm - tip_mm / 2) / math.tan(math.radians(included_deg / 2))
        return line_through(
            (0, 0), (tip_mm / 2, 0), (self.radius_mm, rise), (self.radius_mm, max(self.flute_length_mm, rise))
        )


class ChamferMill(_Pointed):
    """Conical cutter for chamfers."""

    kind: Literal["chamfer mill"] = "chamfer mill"
    tip_diameter_mm: float = _mm("Tip diameter", ge=0, gt=None)
    included_deg: float = _deg(90, "Included angle", 10, 170)

    @model_validator(mode="after")
    def _tip_fits(self) -> ChamferMill:
        if self.tip_diameter_mm >= self.diameter_mm:
            raise ValueError("the tip is as wide as the cutter; make it smaller")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(self.tip_diameter_mm, self.included_deg)


class Drill(_Pointed):
    """Twist drill."""

    kind: Literal["drill"] = "drill"
    point_deg: float = _deg(118, "Point angle", 60, 180)

    @property
    def family(self) -> Family:
        return "drilling"

    @property
    def point_mm(self) -> float:
        """Height of the point."""
        return self.radius_mm / math.tan(math.radians(self.point_deg / 2))

    @model_validator(mode="after")
    def _longer_than_its_point(self) -> Drill:
        if self.flute_length_mm <= self.point_mm:
            raise ValueError(f"the cutting length is shorter than the point ({self.point_mm:.3g} mm)")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(0.0, self.point_deg)


class SpotDrill(Drill):
    """Short stiff drill that starts holes."""

    kind: Literal["spot drill"] = "spot drill"  # type: ignore[assignment]
    point_deg: float = _deg(90, "Point angle", 60, 180)


class CentreDrill(CutterBase):
    """Pilot and 60° cone in one."""

    kind: Literal["centre drill"] = "centre drill"
    pilot_diameter_mm: float = _mm("Pilot diameter")
    pilot_length_mm: float = _mm("Pilot length", "With its point")
    included_deg: float = _deg(60, "Cone angle", 30, 150)

    @property
    def family(self) -> Family:
        return "drilling"

    @model_validator(mode="after")
    def _pilot_fits(self) -> CentreDrill:
        if self.pilot_diameter_mm >= self.diameter_mm:
            raise ValueError("the pilot is as wide as the body; make it smaller")
        if self.pilot_length_mm <= self._point():
            raise ValueError(f"the pilot is shorter than its point ({self._point():.3g} mm)")
        return self

    def _point(self) -> float:
        return self.pilot_diameter_mm / 2 / math.tan(math.radians(59))

    def contour(self) -> list[Piece]:
        d, r = self.pilot_diameter_mm / 2, self.radius_mm
        top = self.pilot_length_mm + (r - d) / math.tan(math.radians(self.included_deg / 2))
        return line_through(
            (0, 0), (d, self._point()), (d, self.pilot_length_mm), (r, top), (r, max(self.flute_length_mm, top))
        )


class Reamer(CutterBase):
    """Reamer with a short 45° lead."""

    kind: Literal["reamer"] = "reamer"
    lead_mm: float = Field(default=0.5, ge=0, le=20, title="Lead", json_schema_extra=MM)
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "reaming"

    @model_validator(mode="after")
    def _lead_fits(self) -> Reamer:
        if self.lead_mm >= min(self.radius_mm, self.flute_length_mm):
            raise ValueError("the lead is longer than the reamer allows; make it shorter")
        return self

    def contour(self) -> list[Piece]:
        r = self.radius_mm
        return line_through((0, 0), (r - self.lead_mm, 0), (r, self.lead_mm), (r, self.flute_length_mm))


class _Threading(CutterBase):
    thread: str = Field(default="", max_length=20, title="Thread", description="M6, 1/4-20 UNC …; empty: by its pitch")
    pitch_mm: float = _mm("Pitch")

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


class Tap(_Threading):
    """Tap; its diameter is the thread's nominal one."""

    kind: Literal["tap"] = "tap"
    hand: Literal["right", "left"] = Field(default="right", title="Hand")
    lead_threads: float = Field(default=2.5, ge=0, le=12, title="Lead", description="In threads")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "tapping"

    @property
    def lead_mm(self) -> float:
        return self.lead_threads * self.pitch_mm

    @model_validator(mode="after")
    def _pitch_fits(self) -> Tap:
        if self.pitch_mm >= self.radius_mm:
            raise ValueError(f"the pitch {self.pitch_mm:g} mm is too coarse for a diameter of {self.diameter_mm:g} mm")
        if self.lead_mm >= self.flute_length_mm:
            raise ValueError("the lead is longer than the cutting length")
        return self

    def contour(self) -> list[Piece]:
        r = self.radius_mm
        tip = r - 0.613 * self.pitch_mm  # depth of the external thread of ISO 724
        return line_through((0, 0), (tip, 0), (r, self.lead_mm), (r, self.flute_length_mm))


class ThreadMill(_Threading):
    """Thread mill with one tooth or a full row of them."""

    kind: Literal["thread mill"] = "thread mill"
    teeth: Literal["single", "full form"] = Field(default="full form", title="Teeth")
    profile_deg: float = _deg(60, "Profile angle", 20, 90)
    neck_diameter_mm: float = _mm("Neck diameter")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "thread milling"

    @property
    def tooth_mm(self) -> float:
        """Depth of a tooth beyond the neck of a single-tooth mill, else that of the thread."""
        sharp = self.pitch_mm / 2 / math.tan(math.radians(self.profile_deg / 2))
        return min(0.625 * sharp, self.radius_mm * 0.45)

    @property
    def edge_length_mm(self) -> float:
        return self._teeth()[-1][1]

    @model_validator(mode="after")
    def _neck_fits(self) -> ThreadMill:
        if self.neck_diameter_mm > self.diameter_mm - 2 * self.tooth_mm + 1e-9:
            raise ValueError(
                f"the neck is wider than the root of the teeth ({self.diameter_mm - 2 * self.tooth_mm:.3g} mm)"
            )
        return self

    def _teeth(self) -> list[tuple[float, float]]:
        """Places (radius, height) of the contour from the tip to the end of the last tooth."""
        r, root = self.radius_mm, self.radius_mm - self.tooth_mm
        slope = math.tan(math.radians(self.profile_deg / 2)) * self.tooth_mm
        rows = 1 if self.teeth == "single" else max(int(self.flute_length_mm // self.pitch_mm), 1)
        land = max(self.pitch_mm / 8, 1e-3)
        places: list[tuple[float, float]] = [(0, 0), (root, 0)]
        for k in range(rows):
            z = k * self.pitch_mm
            places += [(root, z), (r, z + slope), (r, z + slope + land), (root, z + 2 * slope + land)]
        return places

    def contour(self) -> list[Piece]:
        places = self._teeth()
        return line_through(*places, (places[-1][0], max(self.flute_length_mm, places[-1][1])))


class SlottingCutter(CutterBase):
    """Disc on a neck: side and face cutter, T-slot cutter."""

    kind: Literal["slotting cutter"] = "slotting cutter"
    neck_diameter_mm: float = _mm("Neck diameter")
    corner_radius_mm: float = Field(default=0, ge=0, le=100, title="Corner radius", json_schema_extra=MM)
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _neck_fits(self) -> SlottingCutter:
        if self.neck_diameter_mm >= self.diameter_mm:
            raise ValueError("the neck is as wide as the disc; make it smaller")
        if 2 * self.corner_radius_mm > self.flute_length_mm or self.corner_radius_mm >= self.radius_mm:
            raise ValueError("the corners are rounder than the disc is thick; make the radius smaller")
        return self

    def contour(self) -> list[Piece]:
        r, c, t = self.radius_mm, self.corner_radius_mm, self.flute_length_mm
        top = [Piece(r, t - c, r - c, t, (r - c, t - c))] if c > 0 else []
        return [
            *corner_arc(r, c),
            *line_through((r, c), (r, t - c)),
            *top,
            *line_through((r - c, t), (self.neck_diameter_mm / 2, t)),
        ]


class Lollipop(CutterBase):
    """A ball on a thinner neck."""

    kind: Literal["lollipop"] = "lollipop"
    neck_diameter_mm: float = _mm("Neck diameter")

    @property
    def corner_mm(self) -> float:
        return self.radius_mm

    @model_validator(mode="after")
    def _neck_fits(self) -> Lollipop:
        if self.neck_diameter_mm >= self.diameter_mm:
            raise ValueError("the neck is as wide as the ball; make it smaller")
        if self.flute_length_mm < self._ball_top() - 1e-9:
            raise ValueError(f"the cutting length must reach the neck ({self._ball_top():.3g} mm)")
        return self

    @property
    def edge_length_mm(self) -> float:
        return self._ball_top()

    def _ball_top(self) -> float:
        r = self.radius_mm
        return r + math.sqrt(r * r - (self.neck_diameter_mm / 2) ** 2)

    def contour(self) -> list[Piece]:
        r, n = self.radius_mm, self.neck_diameter_mm / 2
        ball = [Piece(0, 0, r, r, (0, r)), Piece(r, r, n, self._ball_top(), (0, r))]
        return [*ball, *line_through((n, self._ball_top()), (n, self.flute_length_mm))]


class TaperedCutter(CutterBase):
    """Conical end mill; its diameter is the one at the tip, measured over the corner radius."""

    kind: Literal["tapered"] = "tapered"
    corner_radius_mm: float = Field(
        default=0, ge=0, le=100, title="Corner radius", description="Half the diameter: a ball", json_schema_extra=MM
    )
    taper_deg: float = _deg(3, "Taper", 0, 60, "Each side")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @property
    def widest_mm(self) -> float:
        """Diameter at the end of the cutting length."""
        return 2 * self.contour()[-1].r1

    @model_validator(mode="after")
    def _corner_fits(self) -> TaperedCutter:
        if self.corner_radius_mm > self.radius_mm + 1e-9:
            raise ValueError("the corner radius is larger than half the diameter; make it smaller")
        if self.flute_length_mm <= self.corner_radius_mm:
            raise ValueError("the cutting length is shorter than the corner radius; make it longer")
        return self

    def contour(self) -> list[Piece]:
        c, lean = self.corner_radius_mm, math.radians(self.taper_deg)
        flat = self.radius_mm - c
        # The arc ends where it runs into the leaning side.
        start = (flat + c * math.cos(lean), c * (1 - math.sin(lean)))
        end = (start[0] + (self.flute_length_mm - start[1]) * math.tan(lean), self.flute_length_mm)
        arc = [Piece(flat, 0, *start, (flat, c))] if c > 0 else []
        return [*line_through((0, 0), (flat, 0)), *arc, *line_through(start, end)]


class BarrelCutter(CutterBase):
    """A flank that bulges with a large radius, run tangentially into the corner radius."""

    kind: Literal["barrel"] = "barrel"
    corner_radius_mm: float = _mm("Corner radius")
    flank_radius_mm: float = _mm("Flank radius", "Much larger than half the diameter", le=10_000)
    widest_at_mm: float = _mm("Widest at", "Height of the largest diameter above the tip")

    @property
    def corner_mm(self) -> float:
        return self.corner_radius_mm

    @model_validator(mode="after")
    def _arcs_meet(self) -> BarrelCutter:
        if self.flank_radius_mm <= self.radius_mm:
            raise ValueError("the flank radius must be larger than half the diameter")
        if self.widest_at_mm > self.flute_length_mm:
            raise ValueError("the widest place lies beyond the cutting length")
        if self._corner_centre() is None:
            raise ValueError("corner and flank do not meet; lower the widest place or take a larger corner radius")
        return self

    def _corner_centre(self) -> float | None:
        """Distance of the corner arc's centre from the axis, so that it touches the flank from inside."""
        apart, lift = self.flank_radius_mm - self.corner_radius_mm, self.widest_at_mm - self.corner_radius_mm
        if apart <= abs(lift) or lift < 0:
            return None
        x = self.radius_mm - self.flank_radius_mm + math.sqrt(apart**2 - lift**2)
        return x if x >= 0 else None

    def contour(self) -> list[Piece]:
        x, c, big, z = self._corner_centre() or 0.0, self.corner_radius_mm, self.flank_radius_mm, self.widest_at_mm
        centre = (self.radius_mm - big, z)
        k = big / (big - c)
        touch = (centre[0] + (x - centre[0]) * k, centre[1] + (c - centre[1]) * k)
        pieces = [*line_through((0, 0), (x, 0)), Piece(x, 0, *touch, (x, c)), Piece(*touch, self.radius_mm, z, centre)]
        top = self.flute_length_mm
        if top > z + 1e-9:
            side = centre[0] + math.sqrt(max(big**2 - (top - z) ** 2, 0.0))
            pieces.append(Piece(self.radius_mm, z, max(side, 0.1), top, centre))
        return pieces


class DovetailCutter(CutterBase):
    """Wider at its end than above."""

    kind: Literal["dovetail"] = "dovetail"
    angle_deg: float = _deg(60, "Angle", 30, 89, "Between side and floor")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @model_validator(mode="after")
    def _leaves_a_neck(self) -> DovetailCutter:
        if self._neck() <= 0:
            raise ValueError("the sides meet before the cutting length ends; shorten it or open the angle")
        return self

    def _neck(self) -> float:
        return self.radius_mm - self.flute_length_mm / math.tan(math.radians(self.angle_deg))

    def contour(self) -> list[Piece]:
        return line_through((0, 0), (self.radius_mm, 0), (self._neck(), self.flute_length_mm))


class EngravingCutter(_Pointed):
    """Pointed cutter for engraving."""

    kind: Literal["engraving"] = "engraving"
    tip_diameter_mm: float = _mm("Tip diameter", ge=0, gt=None)
    included_deg: float = _deg(30, "Included angle", 5, 150)
    flutes: int = Field(default=1, ge=1, le=40, title="Flutes")

    @property
    def family(self) -> Family:
        return "engraving"

    @model_validator(mode="after")
    def _tip_fits(self) -> EngravingCutter:
        if self.tip_diameter_mm >= self.diameter_mm:
            raise ValueError("the tip is as wide as the cutter; make it smaller")
        return self

    def contour(self) -> list[Piece]:
        return self._cone(self.tip_diameter_mm, self.included_deg)


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


class BackBoringBar(CutterBase):
    """Bar with one edge on the upper side of its foot, for work on the far side of a hole.

    It goes through the hole with the spindle stopped in its place and beside the hole's axis, so that bar and edge lie
    evenly about that axis.
    """

    kind: Literal["back boring bar"] = "back boring bar"
    flute_length_mm: float = Field(
        gt=0, le=200, title="Height of the foot", description="From the tip to the edge", json_schema_extra=MM
    )
    bar_diameter_mm: float = _mm("Bar diameter")
    edge_deg: float = Field(
        default=0,
        ge=0,
        lt=360,
        title="Edge points to",
        description="From X plus, where the spindle stops in its place",
        json_schema_extra=DEG,
    )
    flutes: int = Field(default=1, ge=1, le=1, title="Edges")
    centre_cutting: bool = Field(default=False, title="Centre cutting")

    @property
    def family(self) -> Family:
        return "boring"

    @property
    def shank_mm(self) -> float:
        return self.bar_diameter_mm

    @property
    def only(self) -> str:
        return "cuts on its upper side only"

    @property
    def passing_mm(self) -> float:
        """Diameter of the narrowest hole round bar and edge together."""
        return self.radius_mm + self.bar_diameter_mm / 2

    @property
    def aside_mm(self) -> tuple[float, float]:
        """Way (x, y) from the axis of a hole to that of the spindle, when bar and edge lie evenly about the hole's."""
        away = (self.radius_mm - self.bar_diameter_mm / 2) / 2
        angle = math.radians(self.edge_deg)
        return -away * math.cos(angle), -away * math.sin(angle)

    @model_validator(mode="after")
    def _edge_stands_out(self) -> BackBoringBar:
        if self.bar_diameter_mm >= self.diameter_mm:
            raise ValueError("the bar is as wide as its edge cuts; make it thinner")
        return self

    def contour(self) -> list[Piece]:
        r, t = self.radius_mm, self.flute_length_mm
        return line_through((0, 0), (r, 0), (r, t), (self.bar_diameter_mm / 2, t))


class ContourCutter(CutterBase):
    """A cutter with a contour of its own, for example from a DXF file: places (radius, height) and bulges.

    A bulge is the tangent of a quarter of the arc's angle, as in DXF; 0 for a straight piece.
    """

    kind: Literal["own contour"] = "own contour"
    places: list[tuple[float, float, float]] = Field(min_length=2, max_length=500, title="Contour")

    @model_validator(mode="after")
    def _is_a_contour(self) -> ContourCutter:
        first = self.places[0]
        if abs(first[0]) > 1e-6 or abs(first[1]) > 1e-6:
            raise ValueError("the contour must begin at the tip, at radius 0 and height 0")
        if any(r < -1e-9 or z < -1e-9 for r, z, _ in self.places):
            raise ValueError("the contour crosses the axis or goes below the tip")
        widest = 2 * max(max(p.r0, p.r1) for p in self.contour())
        if abs(widest - self.diameter_mm) > 0.01:
            raise ValueError(f"the contour is {widest:.4g} mm wide; the diameter says {self.diameter_mm:g} mm")
        return self

    def contour(self) -> list[Piece]:
        pieces = []
        for (r0, z0, bulge), (r1, z1, _) in zip(self.places[:-1], self.places[1:], strict=True):
            if abs(bulge) < 1e-9:
                pieces += line_through((r0, z0), (r1, z1))
                continue
            chord = math.dist((r0, z0), (r1, z1))
            k = (1 - bulge * bulge) / (4 * bulge)
            centre = ((r0 + r1) / 2 - k * (z1 - z0), (z0 + z1) / 2 + k * (r1 - r0))
            if chord > 1e-12:
                pieces.append(Piece(r0, z0, r1, z1, centre, inward=bulge < 0))
        return pieces


Cutter = Annotated[
    FlatCutter
    | BallCutter
    | BullNoseCutter
    | FaceMill
    | ChamferMill
    | Drill
    | SpotDrill
    | CentreDrill
    | Reamer
    | Tap
    | ThreadMill
    | SlottingCutter
    | Lollipop
    | TaperedCutter
    | BarrelCutter
    | DovetailCutter
    | EngravingCutter
    | BoringHead
    | BackBoringBar
    | ContourCutter,
    Field(discriminator="kind"),
]
