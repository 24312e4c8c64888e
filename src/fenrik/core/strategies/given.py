"""What a strategy is given: only what it named in its declaration, every item with a key of its own.

The key of a path is made from the keys of the items, and its maker gets the same items; so nothing that a strategy
looks at can be missing in the key. An item is worked out when it is first asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any, Literal

import numpy as np
from shapely.geometry.base import BaseGeometry

from fenrik.core.contact import DropIndex, DropStack, Surface
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.frames import Frame, Points
from fenrik.core.progress import Progress, silent
from fenrik.core.regions import Rings, Shadow
from fenrik.core.setups.grids import join_meshes
from fenrik.core.solids.model import Mesh, Solid
from fenrik.core.solids.rulings import Rulings
from fenrik.core.stock import Stock
from fenrik.core.strategies.targets import Targets, Ways
from fenrik.core.toolpath import Feeds, PathBuilder, Safe, SafePlane
from fenrik.core.tools import Cutter, Tool, cutting_profile
from fenrik.core.tools.assembly import wider_bodies
from fenrik.core.tools.profile import bull_nose_profile

BODY_CLEARANCE_MM = 0.2
"""How far shank and holder keep from the part."""
OBSTACLE_CLEARANCE_MM = 0.5
"""How far the cutter keeps from fixtures and other copies; more than the tolerance of a path."""

Need = Literal[
    "stock", "cutter", "tool", "feeds", "rpm", "safe", "zero", "mesh", "part_box", "solid", "surface", "shadow",
    "obstacles", "targets", "region", "keep_out", "stay_in", "ways", "rulings", "text",
    "reference",
]  # fmt: skip
"""Items that there are."""

ALWAYS: tuple[Need, ...] = ("stock", "cutter", "feeds", "safe")
"""What every path needs: what is there, what cuts, how fast, and how high it may travel."""
ON_SURFACE: tuple[Need, ...] = (*ALWAYS, "mesh", "obstacles")
"""What paths over the whole part need."""
IN_PLACE: tuple[Need, ...] = (
    *ALWAYS, "obstacles", "tool", "zero", "part_box", "targets", "keep_out", "stay_in",
)  # fmt: skip
"""What paths need that stay in holes or on curves, whatever stands beside."""
ON_PICKED: tuple[Need, ...] = (*IN_PLACE, "shadow")
"""What paths on picked geometry need that keep clear of the part."""


@dataclass(frozen=True)
class Item:
    """One thing that a strategy may look at.

    Attributes:
        key: plain data that changes whenever the thing does. get: makes it.
    """

    key: Any
    get: Callable[[], Any]


@dataclass(frozen=True)
class Region:
    """What the axis of the tool stays over; at most one of both is there.

    Attributes:
        faces: triangles of picked faces. area: polygons of a sketch.
    """

    faces: Mesh | None = None
    area: BaseGeometry | None = None


def _itself(value: Any) -> Any:
    return value


class Given:
    """The items that a strategy named; all in the setup's frame (z up), mm.

    Raises:
        KeyError: when the strategy looks at what it did not name.
    """

    def __init__(self, items: Mapping[str, Item], progress: Progress = silent) -> None:
        self._items, self.progress = dict(items), progress
        self._made: dict[str, Any] = {}

    @classmethod
    def of(cls, **values: Any) -> Given:
        """Things at hand as they are, with no keys."""
        return cls({name: Item(None, partial(_itself, value)) for name, value in values.items()})

    @property
    def key(self) -> dict[str, Any]:
        """Keys of all items, by name."""
        return {name: item.key for name, item in self._items.items()}

    def with_tool(self, tool: Tool) -> Given:
        """The same for another tool, for asking what that would do."""
        return Given({**self._items, "tool": Item(None, lambda: tool), "cutter": Item(None, lambda: tool.cutter)})

    def forget(self) -> None:
        """Let go of what was made; it is made again where it is asked for."""
        self._made.clear()
        self.__dict__.pop("grown_obstacles", None)
        self.__dict__.pop("with_obstacles", None)
        self.__dict__.pop("distances", None)

    def _of(self, name: Need) -> Any:
        if name not in self._made:
            if name not in self._items:
                raise KeyError(f"a strategy looked at {name}, which it does not name among its needs")
            self._made[name] = self._items[name].get()
        return self._made[name]

    @property
    def stock(self) -> Stock:
        """The stock before the operation."""
        return self._of("stock")

    @property
    def cutter(self) -> Cutter:
        return self._of("cutter")

    @property
    def tool(self) -> Tool:
        """The whole tool with its shank and holder."""
        return self._of("tool")

    @property
    def reference(self) -> Tool | None:
        """The tool whose work the operation goes on with, by its name; None where the stock says what is left."""
        return self._of("reference")

    @property
    def feeds(self) -> Feeds:
        return self._of("feeds")

    @property
    def rpm(self) -> float:
        """Spindle speed."""
        return self._of("rpm")

    @property
    def safe(self) -> Safe:
        """Beyond it rapids are over everything."""
        return SafePlane.at_height(float(self._of("safe")[0]))

    @property
    def retract_mm(self) -> float:
        """Height for rapids within an operation."""
        return float(self._of("safe")[1])

    @property
    def zero(self) -> Points:
        """Place of the work zero, (3,)."""
        return self._of("zero")

    @property
    def mesh(self) -> Mesh:
        """The part within the operation's share of tolerance."""
        return self._of("mesh")

    @property
    def part_box(self) -> Points:
        """Lowest and highest corner of the part, (2, 3)."""
        return self._of("part_box")

    @property
    def solid(self) -> tuple[Solid, Frame]:
        """The exact part, and the frame in whose coordinates all else is."""
        return self._of("solid")

    @property
    def shadow(self) -> Shadow:
        """The shadow of the mesh."""
        return self._of("shadow")

    @property
    def obstacles(self) -> Mesh | None:
        """What else the tool must not touch: fixtures, other copies."""
        return self._of("obstacles")

    @property
    def targets(self) -> Targets:
        """What the operation is applied to."""
        return self._of("targets")

    @property
    def region(self) -> Region:
        """What the axis of the tool stays over, where that is said."""
        return self._of("region")

    @property
    def ways(self) -> Ways:
        """The picked edges, those that meet as one, and sketches laid on faces, with the normals beside them."""
        return self._of("ways")

    @property
    def rulings(self) -> list[Rulings]:
        """The straight lines of the picked faces, those that follow one another as one."""
        return self._of("rulings")

    @property
    def text(self) -> bytes:
        """The file that the parameters name."""
        return self._of("text")

    @property
    def keep_out(self) -> Rings:
        """A region that the tool stays out of."""
        return self._of("keep_out")

    @property
    def stay_in(self) -> Rings:
        """A region that the axis stays in; empty: anywhere."""
        return self._of("stay_in")

    def builder(self) -> PathBuilder:
        return PathBuilder(self.feeds, self.safe, self.retract_mm, radius_mm=self.cutter.radius_mm)

    @cached_property
    def with_obstacles(self) -> Mesh:
        """Part and obstacles in one."""
        return self.mesh if self.obstacles is None else join_meshes([self.mesh, self.grown_obstacles])

    def drop_index(self, allowance_mm: float) -> DropIndex:
        """The part and the obstacles made ready for this cutter grown by an allowance."""
        return DropIndex.build(self.with_obstacles, cutting_profile(self.cutter), allowance_mm)

    def whole_tool_index(self, allowance_mm: float) -> DropStack:
        """The same for cutter, neck, shank and holder: where the whole tool may stand."""
        return DropStack(((self.drop_index(allowance_mm), 0.0), *self.body_indices(allowance_mm)))

    def body_indices(self, allowance_mm: float) -> list[tuple[DropIndex, float]]:
        """Neck, shank and holder where they are wider than the cutter, with their heights over the tip."""
        mesh = self.with_obstacles
        depth = float(np.ptp(mesh.bounds()[:, 2]))
        grown = allowance_mm + BODY_CLEARANCE_MM
        return [
            (DropIndex.build(mesh, bull_nose_profile(radius, 0.0, 1.0), grown), bottom)
            for radius, bottom in wider_bodies(self.tool)
            if bottom < depth
        ]

    def surface(self, allowance_mm: float) -> Surface:
        """The same with the exact faces of the part."""
        mesh, faces = self._of("surface")
        if self.obstacles is not None:
            around = self.grown_obstacles
            flat = None if mesh.parameters is None else np.zeros((len(around.triangles), 3, 2), np.float32)
            nobody = np.full(len(around.triangles), -1, np.int32)
            mesh = join_meshes([mesh, replace(around, face_ids=nobody, parameters=flat)])
        return Surface.build(mesh, faces, cutting_profile(self.cutter), allowance_mm)

    @cached_property
    def distances(self) -> DistanceIndex:
        """The part with its exact faces, made ready to be asked for distances."""
        return DistanceIndex.build(*self._of("surface"))

    @cached_property
    def grown_obstacles(self) -> Mesh:
        """The obstacles moved to four sides and up, together: to a tool from above they are larger by the clearance."""
        assert self.obstacles is not None
        c = OBSTACLE_CLEARANCE_MM
        steps = [np.array([x, y, c]) for x in (-c, c) for y in (-c, c)]
        return join_meshes([replace(self.obstacles, vertices=self.obstacles.vertices + step) for step in steps])
