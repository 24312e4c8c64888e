"""Arms from files in the Unified Robot Description Format: the six turning joints from a root to a tip.

Lengths there are metres and angles radians; a joint's frame is that of its parent moved by `origin` (rpy: turns
about the fixed axes x, y, z) and turned about `axis`. Meshes are not read here: which a file names is told, so that
bodies that are missing can be said.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from lxml import etree
from scipy.spatial.transform import Rotation

from fenrik.core.errors import fail
from fenrik.core.frames import Points
from fenrik.core.robots.arm import JOINTS, Arm, ArmJoint, Axes, Axis

MOST_BYTES, MOST_JOINTS = 20_000_000, 2000
TURNING, FIXED = ("revolute", "continuous"), ("fixed",)
WHOLE_TURN_DEG = 360.0


@dataclass(frozen=True)
class FromUrdf:
    """An arm, the link that its last joint carries, and the mesh files that the description names."""

    arm: Arm
    tip: str
    meshes: list[str]


@dataclass(frozen=True)
class _Joint:
    name: str
    kind: str
    parent: str
    child: str
    turn: Points
    place: Points
    axis: Points
    low: float
    high: float
    speed: float


def arm_from_urdf(data: bytes, tip: str = "") -> FromUrdf:
    """The arm of a description.

    Args:
        tip: the link that counts as the flange; where none is named, the one behind six turning joints.

    Raises:
        FenrikError: where the text is no such description, its joints form a loop, or there are not six on the way.
    """
    root = _root(data)
    joints = [_joint(e) for e in root.findall("joint")]
    if len(joints) > MOST_JOINTS:
        raise fail("urdf", f"has {len(joints)} joints.", f"Leave it at {MOST_JOINTS}.")
    to = {j.child: j for j in joints}
    if len(to) < len(joints):
        twice = next(j.child for j in joints if sum(k.child == j.child for k in joints) > 1)
        raise fail("urdf", f"hangs link {twice} on two joints: a loop.", "Open the loop at one of them.", twice)
    way = _way(to, tip) if tip else _longest(to)
    turning = [j for j in way if j.kind in TURNING]
    if len(turning) != JOINTS:
        raise fail(
            "urdf",
            f"has {len(turning)} turning joints on the way to {way[-1].child if way else 'its tip'}.",
            "Name the link behind the sixth joint as the tip.",
            tip,
        )
    odd = next((j for j in way if j.kind not in (*TURNING, *FIXED)), None)
    if odd is not None:
        raise fail("urdf", f"joint {odd.name} is {odd.kind}.", "Arms of six turning joints are understood.", odd.name)
    meshes = [e.get("filename", "") for e in root.iter("mesh")]
    return FromUrdf(_arm(root.get("name") or "Arm", way), way[-1].child, sorted({m for m in meshes if m}))


def _root(data: bytes) -> etree._Element:
    if len(data) > MOST_BYTES:
        raise fail("urdf", "is larger than 20 MB.", "Leave meshes in files of their own.")
    try:
        root = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False))
    except etree.XMLSyntaxError as error:
        raise fail("urdf", f"is no XML: {error.msg}.", "Bring in a URDF file.") from error
    if root.tag != "robot":
        raise fail("urdf", f"begins with {str(root.tag)[:40]} instead of robot.", "Bring in a URDF file.")
    return root


def _numbers(element: etree._Element | None, name: str, default: tuple[float, float, float], where: str) -> Points:
    text = element.get(name) if element is not None else None
    if text is None:
        return np.array(default)
    try:
        values = [float(v) for v in text.split()]
    except ValueError:
        values = []
    if len(values) != 3 or not np.isfinite(values).all() or np.abs(values).max() > 1e4:
        raise fail("urdf", f"has no three numbers in {name} of {where}.", "Correct it.", text[:60])
    return np.array(values)


def _joint(e: etree._Element) -> _Joint:
    name = e.get("name") or "(no name)"
    ends = [child.get("link") if (child := e.find(side)) is not None else None for side in ("parent", "child")]
    if not all(ends):
        raise fail("urdf", f"joint {name} does not say what it joins.", "Give it parent and child.", name)
    origin, limit = e.find("origin"), e.find("limit")
    axis = _numbers(e.find("axis"), "xyz", (1.0, 0.0, 0.0), name)
    size = float(np.linalg.norm(axis))
    if size < 1e-9:
        raise fail("urdf", f"joint {name} has an axis without a direction.", "Correct it.", name)
    kind = e.get("type") or "fixed"
    free = kind == "continuous" or limit is None

    def of_limit(what: str, default: float) -> float:
        try:
            return float(limit.get(what, default)) if limit is not None else default
        except ValueError as error:
            raise fail("urdf", f"joint {name} has no number for {what}.", "Correct it.", name) from error

    return _Joint(
        name, kind, str(ends[0]), str(ends[1]),
        Rotation.from_euler("xyz", _numbers(origin, "rpy", (0.0, 0.0, 0.0), name)).as_matrix(),
        1000.0 * _numbers(origin, "xyz", (0.0, 0.0, 0.0), name),
        axis / size,
        -WHOLE_TURN_DEG if free else float(np.rad2deg(of_limit("lower", 0.0))),
        WHOLE_TURN_DEG if free else float(np.rad2deg(of_limit("upper", 0.0))),
        float(np.rad2deg(of_limit("velocity", 2.0))),
    )  # fmt: skip


def _way(to: dict[str, _Joint], tip: str) -> list[_Joint]:
    """The joints from the root to a link."""
    found: list[_Joint] = []
    if tip not in to:
        raise fail("urdf", f"has no link {tip} behind a joint.", f"Use one of: {', '.join(sorted(to)[:12])}.", tip)
    link = tip
    while link in to:
        found.append(to[link])
        link = to[link].parent
        if len(found) > len(to):
            raise fail("urdf", f"comes back to link {tip}: a loop.", "Open the loop at one of its joints.", tip)
    return found[::-1]


def _longest(to: dict[str, _Joint]) -> list[_Joint]:
    """The way to the leaf with six turning joints before it; of several the one with the most joints."""
    leaves = [c for c in to if not any(j.parent == c for j in to.values())]
    ways = [_way(to, leaf) for leaf in sorted(leaves or to)]
    six = [w for w in ways if sum(j.kind in TURNING for j in w) == JOINTS]
    return max(six or ways, key=len, default=[])


def _arm(name: str, way: list[_Joint]) -> Arm:
    turn, place = np.eye(3), np.zeros(3)
    axes, joints = [], []
    for j in way:
        place = place + turn @ j.place
        turn = turn @ j.turn
        if j.kind in TURNING:
            axes.append(Axis(along=tuple((turn @ j.axis).tolist()), origin_mm=tuple(place.tolist())))
            low, high = sorted((j.low, j.high))
            joints.append(ArmJoint(name=j.name[:20], low_deg=low, high_deg=high, speed_deg_s=max(j.speed, 1e-3)))
    angles = Rotation.from_matrix(turn).as_euler("xyz", degrees=True)
    shape = Axes(rows=axes, flange_mm=tuple(place.tolist()), flange_deg=tuple(angles.tolist()))
    return Arm(name=name[:80], joints=joints, shape=shape)
