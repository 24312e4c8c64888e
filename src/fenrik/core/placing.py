"""One setup worked out: frame, copies, stock, fixtures, table and zero; everything that needs no path."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.findings import Finding
from fenrik.core.frames import Frame, Points
from fenrik.core.job import Job, Setup, setup_frame, shared_offsets, work_zero
from fenrik.core.keys import key_of, sha256
from fenrik.core.setups.fixtures import BodyFixture, Chuck, FileFixture, Fixture, Vice
from fenrik.core.setups.grids import Instance, bounds_of_instances, grid_instances, join_meshes
from fenrik.core.setups.holding import check_gap, check_grip, check_jaws_clear, gap_below
from fenrik.core.setups.stocks import (
    BarStock,
    BodyStock,
    BoxStock,
    EarlierStock,
    MeshStock,
    TurnedStock,
    box_mesh,
    made_stock_mesh,
    reach_about,
    stock_bounds,
)
from fenrik.core.solids import Mesh, Solid, read_solid
from fenrik.core.solids.reading import mesh_at, solid_from_shapes
from fenrik.core.solids.signatures import FaceLooks
from fenrik.core.stock import Stock
from fenrik.core.stock.field import suggested_cell
from fenrik.core.stock.shaping import stock_from_mesh, turn_stock

STOCK_DEFLECTION_MM = 0.005

FIXTURE_VERSION = 1

Files = Callable[[str], bytes]
Keep = Callable[[str, Callable[[], Solid]], Solid]
"""Gives the solid of a key, made by the function where it is not kept yet."""


class Placing:
    """A setup with its solids.

    Args:
        model: all bodies of the model file.
        part: the bodies that this setup makes.
        files: gives the bytes of the job's further files.
        earlier: gives the placing of another setup.
        keep: keeps solids that take long to make: read files, fixtures.
    """

    def __init__(
        self,
        job: Job,
        setup: Setup,
        model: Solid,
        part: Solid,
        files: Files,
        earlier: Callable[[str], Placing],
        cell_mm: float | None,
        keep: Keep = lambda key, make: make(),
    ) -> None:
        self.job, self.setup, self.model, self.part = job, setup, model, part
        self.files, self.earlier, self.cell_wanted, self.keep = files, earlier, cell_mm, keep

    @cached_property
    def frame(self) -> Frame:
        return setup_frame(self.setup, self.part)

    @cached_property
    def looks(self) -> FaceLooks:
        """What the faces of the first part look like in the frame."""
        return FaceLooks(self.part, self.frame)

    @cached_property
    def one_part(self) -> Points:
        """Box of the first part in the frame, (2, 3)."""
        return self.part.bounds(self.frame)

    @cached_property
    def instances(self) -> list[Instance]:
        return grid_instances(self.setup.grid, self.one_part.mean(axis=0))

    @cached_property
    def parts(self) -> Points:
        """Box of all copies together, (2, 3)."""
        boxes = np.array(bounds_of_instances(self.instances, self.one_part))
        return np.array([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])

    @property
    def _one_each(self) -> bool:
        return self.setup.grid is not None and self.setup.grid.blanks == "one each"

    def mesh_of_parts(self, mesh: Mesh) -> Mesh:
        """The part's mesh (in the frame) for all copies."""
        return join_meshes([i.mesh(mesh) for i in self.instances])

    # Stock

    @cached_property
    def stock(self) -> Points:
        """Box of the stock in the frame, (2, 3); of one from an earlier setup, the box before anything was cut."""
        boxes = np.array([bounds for _, bounds in self._blanks])
        return np.array([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])

    @cached_property
    def _blanks(self) -> list[tuple[Instance | None, Points]]:
        """The box of each blank, with the copy that it is for where each has its own."""
        if not self._one_each:
            return [(None, self._bounds(self.parts))]
        one = self._bounds(self.one_part)
        return list(zip(self.instances, bounds_of_instances(self.instances, one), strict=True))

    def _bounds(self, part: Points) -> Points:
        stock = self.setup.stock
        if isinstance(stock, EarlierStock):
            before = self.earlier(stock.setup)
            corners = np.array(np.meshgrid(*before.stock.T)).reshape(3, -1).T
            here = self.frame.to_local(before.frame.to_part(corners))
            return np.array([here.min(axis=0), here.max(axis=0)])
        if isinstance(stock, BodyStock | MeshStock):
            return self._stock_solid.bounds(self.frame)
        reach = None
        if isinstance(stock, BarStock | TurnedStock):
            reach = reach_about(self._view_mesh, stock.axis, part.mean(axis=0))
        return stock_bounds(stock, part, self.job.stock_list, reach)

    @cached_property
    def _view_mesh(self) -> Mesh:
        return self.mesh_of_parts(self.part.mesh.in_frame(self.frame))

    @cached_property
    def _stock_solid(self) -> Solid:
        stock = self.setup.stock
        if isinstance(stock, BodyStock):
            return self.body(stock.body, f"setups.{self.setup.id}.stock.body")
        assert isinstance(stock, MeshStock)
        return self._read(stock.file)

    def _read(self, name: str) -> Solid:
        """A further file of the job as a solid."""
        data = self.files(name)
        return self.keep(key_of("file", FIXTURE_VERSION, file=sha256(data), name=name), lambda: read_solid(data, name))

    def body(self, name: str, field: str) -> Solid:
        """One body of the model by its name.

        Raises:
            FenrikError: naming the field, when there is none.
        """
        for k, body in enumerate(self.model.bodies):
            if body.name == name:
                from fenrik.core.solids.splitting import take_bodies

                return take_bodies(self.model, [k])
        raise fail(field, "is lost: the model has no body of that name.", "Choose another body.", name)

    @property
    def cell_mm(self) -> float:
        """Resolution of the stock."""
        return self.cell_wanted or suggested_cell(self.stock[1] - self.stock[0])

    def stock_inputs(self, earlier_key: Callable[[EarlierStock], str]) -> dict[str, Any]:
        """What the first stock is made from, for its key."""
        stock = self.setup.stock
        inputs: dict[str, Any] = {"box": np.round(self.stock, 9).tolist(), "cell": self.cell_mm, "made": stock.kind}
        if isinstance(stock, EarlierStock):
            turn = self.earlier(stock.setup).frame.rotation.T @ self.frame.rotation
            return inputs | {"before": earlier_key(stock), "turn": np.round(turn, 12).tolist()}
        if isinstance(stock, MeshStock):
            return inputs | {"file": sha256(self.files(stock.file)), "frame": self.frame.rotation.tolist()}
        if isinstance(stock, BoxStock) and not self._one_each:
            return inputs
        shape = sha256(self._stock_solid.brep) if isinstance(stock, BodyStock) else sha256(self.part.brep)
        rest = {"stock": stock, "grid": self.setup.grid, "shape": shape, "frame": self.frame.rotation.tolist()}
        return inputs | rest | {"mesh": sha256(self.part.mesh.vertices.tobytes()) if not self.part.is_exact else ""}

    def make_stock(self, earlier_stock: Callable[[EarlierStock], Stock]) -> Stock:
        """The first stock of this setup.

        Raises:
            FenrikError: when its shape is open or has no volume.
        """
        stock = self.setup.stock
        if isinstance(stock, EarlierStock):
            turn = self.earlier(stock.setup).frame.rotation.T @ self.frame.rotation
            return turn_stock(earlier_stock(stock), turn)
        if isinstance(stock, BoxStock) and not self._one_each:
            return Stock.box(self.stock[0], self.stock[1], self.cell_mm)
        mesh, error = self.stock_mesh()
        return stock_from_mesh(mesh, self.cell_mm, error)

    def stock_mesh(self) -> tuple[Mesh, float]:
        """The first stock's surface in the frame, and how far it may stand from the exact shape.

        Not for a stock from an earlier setup, whose box is given instead.
        """
        stock = self.setup.stock
        if isinstance(stock, EarlierStock):
            return box_mesh(*self.stock), 0.0
        if isinstance(stock, BodyStock | MeshStock):
            deflection = STOCK_DEFLECTION_MM if self._stock_solid.is_exact else 0.0
            return mesh_at(self._stock_solid, STOCK_DEFLECTION_MM).in_frame(self.frame), deflection
        if self._one_each:
            one = self.part.mesh.in_frame(self.frame)
            mesh, error = made_stock_mesh(stock, one, self.one_part, self.job.stock_list)
            return join_meshes([i.mesh(mesh) for i in self.instances]), error
        return made_stock_mesh(stock, self._view_mesh, self.parts, self.job.stock_list)

    def blank_boxes(self) -> list[tuple[int, Points]]:
        """The box of the blank of each copy, where each has its own; of its part else."""
        if self._one_each:
            return [(i.number, box) for i, box in self._blanks if i is not None]
        return [
            (i.number, box)
            for i, box in zip(self.instances, bounds_of_instances(self.instances, self.one_part), strict=True)
        ]

    # What holds it

    @cached_property
    def fixtures(self) -> list[tuple[Fixture, Solid]]:
        """Each fixture as a solid in the frame.

        Raises:
            FenrikError: naming the fixture whose body or file is lost.
        """
        return [(f, self.keep(self._fixture_key(f), partial(self._fixture, f))) for f in self.setup.fixtures]

    def _fixture_key(self, fixture: Fixture) -> str:
        inputs: dict[str, Any] = {"fixture": fixture, "stock": np.round(self.stock, 9).tolist()}
        if isinstance(fixture, BodyFixture):
            frame = [self.frame.rotation.tolist(), self.frame.origin.tolist()]
            shape = sha256(self.model.brep or self.model.mesh.vertices.tobytes())
            inputs |= {"frame": frame, "shape": shape, "bodies": [b.name for b in self.model.bodies]}
        if isinstance(fixture, FileFixture):
            inputs["file"] = sha256(self.files(fixture.file))
        return key_of("fixture", FIXTURE_VERSION, **inputs)

    def _fixture(self, fixture: Fixture) -> Solid:
        from fenrik.core.setups.fixture_shapes import made_fixture, placement

        field = f"setups.{self.setup.id}.fixtures.{fixture.id}"
        if isinstance(fixture, BodyFixture):
            return in_frame(self.body(fixture.body, f"{field}.body"), self.frame)
        if isinstance(fixture, FileFixture):
            return moved(self._read(fixture.file), placement(fixture.place, self.stock))
        return made_fixture(fixture, self.stock)

    def fixture_mesh(self, deflection_mm: float = 0.02) -> Mesh | None:
        """All fixtures as one mesh in the frame; None where there are none."""
        if not self.fixtures:
            return None
        return join_meshes([mesh_at(s, deflection_mm) for _, s in self.fixtures])

    @property
    def table_level(self) -> float:
        """Height of the table's top in the frame."""
        below = self.setup.table_below_mm
        if below is not None:
            return float(self.stock[0, 2]) - below
        lows = [float(s.bounds()[0, 2]) for _, s in self.fixtures]
        return min([float(self.stock[0, 2]), *lows])

    @property
    def known_table(self) -> float | None:
        """Height of the table's top where fixtures or a number say it; None where the stock's place on it is open."""
        return self.table_level if self.fixtures or self.setup.table_below_mm is not None else None

    @cached_property
    def zero(self) -> Points:
        """The work zero in the frame."""
        return work_zero(self.setup, self.frame, self.part, self.stock)

    @property
    def work_frame(self) -> Frame:
        """The frame with the work zero as its origin."""
        return self.frame.moved_to(self.frame.to_part(self.zero[None, :])[0])

    def check(self, lowest_cut: float | None = None) -> list[Finding]:
        """Gaps, grip and offsets of this setup.

        Args:
            lowest_cut: lowest level of the tip in the route, in the frame, where it is known.
        """
        found: list[Finding] = []
        holders = [(f, s) for f, s in self.fixtures if f.kind in ("vice", "chuck")]
        if self.fixtures:
            lowest = min(self.fixtures, key=lambda f: float(f[1].bounds()[0, 2]))
            name = lowest[0].name or lowest[0].kind
            found += check_gap(gap_below(name, lowest[1].bounds(), "the table", self.table_level))
        for fixture, solid in holders:
            assert isinstance(fixture, Vice | Chuck)
            found += check_grip(fixture, solid, self.stock)
            if lowest_cut is not None:
                found += check_jaws_clear(fixture.name or fixture.kind, solid, lowest_cut)
        others = shared_offsets(self.job).get(self.setup.work_offset, [])
        mine = self.setup.name or self.setup.id
        if mine in others:
            rest = ", ".join(o for o in others if o != mine) or "another setup of the same name"
            found.append(
                Finding(
                    kind="shared work offset",
                    severity="attention",
                    bodies=[mine],
                    message=f"{mine} uses the same work offset as {rest} on the same machine.",
                    advice="Give each setup its own offset, unless they share one zero on purpose.",
                )
            )
        return found


def in_frame(solid: Solid, frame: Frame) -> Solid:
    """A solid in the coordinates of a frame."""
    if solid.is_exact:
        from fenrik.core.solids.tessellate import transform_to

        return moved(solid, transform_to(frame))
    return replace(solid, mesh=solid.mesh.in_frame(frame))


def moved(solid: Solid, transform: Any) -> Solid:
    """A solid moved by one of Open CASCADE's transforms."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform

    from fenrik.core.solids.splitting import bodies_of
    from fenrik.core.solids.xcaf import NamedShape

    if solid.is_exact:
        shapes = bodies_of(solid.shape(), [b.faces for b in solid.bodies])
        named = [
            NamedShape(BRepBuilderAPI_Transform(s, transform, True).Shape(), b.name, b.colour)
            for s, b in zip(shapes, solid.bodies, strict=True)
        ]
        return solid_from_shapes(named)
    matrix = np.array([[transform.Value(r, c) for c in range(1, 5)] for r in range(1, 4)])
    vertices = solid.mesh.vertices @ matrix[:, :3].T + matrix[:, 3]
    return replace(solid, mesh=replace(solid.mesh, vertices=vertices))
