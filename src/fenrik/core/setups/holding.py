"""Is the part held: gaps between bodies and how to close them, grip depth, seating a fixture on a face."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.findings import Finding
from fenrik.core.frames import Points
from fenrik.core.setups.fixtures import Chuck, Place, Vice
from fenrik.core.solids.model import Solid

CONTACT_MM = 1e-3
LEAST_GRIP_MM = 3.0
LEAST_GRIP_SHARE = 0.1


@dataclass(frozen=True)
class Gap:
    """How far two bodies are apart along an axis, and the shift of the first that closes it.

    Attributes:
        distance_mm: above 0 apart, below 0 they run into each other.
        shift: (3,) what to move the first body by.
    """

    first: str
    second: str
    distance_mm: float
    shift: tuple[float, float, float]


def gap_below(name: str, body: Points, below: str, level: float) -> Gap:
    """The gap between a body's underside and a level surface (the table, the base)."""
    distance = float(body[0, 2]) - level
    return Gap(name, below, distance, (0.0, 0.0, -distance))


def seat(fixture: Solid, face: int, target: Solid, target_face: int) -> tuple[Points, float]:
    """What a fixture must be moved and turned by (about z, round the face's middle) so that a flat face of it lies on
    a flat face of another body, both looking at each other.

    Returns:
        Shift (3,) and turn in degrees; the turn is 0 where the faces are level.

    Raises:
        FenrikError: when a face is not flat, or no turn about z brings the faces together.
    """
    a, b = fixture.faces[face], target.faces[target_face]
    for one, field in ((a, "fixture.face"), (b, "target.face")):
        if one.kind != "plane":
            raise fail(field, "is not flat.", "Pick a flat face.", one.kind)
    n, m = np.array(a.normal), -np.array(b.normal)
    if abs(float(n[2] - m[2])) > 1e-6:
        raise fail(
            "target.face",
            "cannot be met by turning about z: the faces lean differently.",
            "Pick another pair of faces.",
        )
    turn = 0.0
    if math.hypot(n[0], n[1]) > 1e-6:
        turn = math.degrees(math.atan2(m[1], m[0]) - math.atan2(n[1], n[0]))
        turn = (turn + 180.0) % 360.0 - 180.0
    gap = float((np.array(b.centroid) - np.array(a.centroid)) @ m)
    return m * gap, 0.0 if abs(turn) < 1e-9 else turn


def moved_place(place: Place, foot: Points, pivot: Points, shift: Points, turn_deg: float) -> Place:
    """A place after turning by an angle about z round a pivot and moving on; all in the setup's frame."""
    angle = math.radians(turn_deg)
    spin = np.array([[math.cos(angle), -math.sin(angle), 0], [math.sin(angle), math.cos(angle), 0], [0, 0, 1]])
    here = foot + [place.x_mm, place.y_mm, place.z_mm]
    there = spin @ (here - pivot) + pivot + shift - foot
    x, y, z = (round(float(v), 9) + 0.0 for v in there)
    turned = (place.turn_deg + turn_deg + 180.0) % 360.0 - 180.0
    return Place(x_mm=x, y_mm=y, z_mm=z, turn_deg=round(turned, 9) + 0.0)


def check_grip(fixture: Vice | Chuck, body: Solid, stock: Points) -> list[Finding]:
    """Whether jaws touch the stock and grip deep enough."""
    name = fixture.name or fixture.kind
    jaws = [b for b in body.bodies if "jaw" in b.name]
    if not jaws:
        return []
    boxes = [_box_of(body, b.first_face, b.faces) for b in jaws]
    top = min(float(box[1, 2]) for box in boxes)
    depth = min(top, float(stock[1, 2])) - max(float(stock[0, 2]), max(float(box[0, 2]) for box in boxes))
    least = max(LEAST_GRIP_MM, LEAST_GRIP_SHARE * float(stock[1, 2] - stock[0, 2]))
    found = []
    if depth < least:
        found.append(
            Finding(
                kind="grip",
                severity="fault" if depth <= 0 else "attention",
                bodies=[name, "stock"],
                amount=depth,
                message=f"{name} grips {max(depth, 0):.1f} mm of the stock; {least:.1f} mm are wanted.",
                advice="Lower the part in the jaws, or take higher jaws.",
            )
        )
    gaps = [_apart(box, stock) for box in boxes]
    if max(gaps) > CONTACT_MM:
        found.append(
            Finding(
                kind="gap",
                severity="attention",
                bodies=[name, "stock"],
                amount=max(gaps),
                message=f"A jaw of {name} stands {max(gaps):.2f} mm off the stock.",
                advice="Leave the opening empty so that it follows the stock, or set it to the stock's width.",
            )
        )
    return found


def check_gap(gap: Gap) -> list[Finding]:
    """A finding where two bodies that should touch do not, or run into each other."""
    if abs(gap.distance_mm) <= CONTACT_MM:
        return []
    apart = gap.distance_mm > 0
    words = f"stands {gap.distance_mm:.2f} mm above" if apart else f"reaches {-gap.distance_mm:.2f} mm into"
    return [
        Finding(
            kind="gap" if apart else "overlap",
            severity="attention" if apart else "fault",
            bodies=[gap.first, gap.second],
            amount=gap.distance_mm,
            message=f"{gap.first} {words} {gap.second}.",
            advice="Close the gap.",
        )
    ]


def check_jaws_clear(name: str, body: Solid, lowest_cut: float) -> list[Finding]:
    """Whether jaws end below the lowest level that is cut beside them."""
    jaws = [b for b in body.bodies if "jaw" in b.name]
    if not jaws:
        return []
    top = max(float(_box_of(body, b.first_face, b.faces)[1, 2]) for b in jaws)
    if top <= lowest_cut + 1e-9:
        return []
    return [
        Finding(
            kind="jaw in the way",
            severity="attention",
            bodies=[name, "cutter"],
            amount=top - lowest_cut,
            message=f"The jaws of {name} end {top - lowest_cut:.1f} mm above the lowest level that is cut.",
            advice="Lower jaws, a taller stock below the part, or a boundary that stays clear of them.",
        )
    ]


def _box_of(solid: Solid, first: int, count: int) -> Points:
    own = solid.faces[first : first + count]
    return np.array([np.min([f.low for f in own], axis=0), np.max([f.high for f in own], axis=0)])


def _apart(a: Points, b: Points) -> float:
    """Distance of two boxes."""
    gap = np.maximum(np.maximum(a[0] - b[1], b[0] - a[1]), 0.0)
    return float(np.linalg.norm(gap))
