"""What a job is about, before anything is cut: its bodies, setups, sketches, features, and their triangles."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from pydantic import TypeAdapter

from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.errors import fail
from fenrik.core.frames import Frame, Points
from fenrik.core.job import Job, Setup
from fenrik.core.keys import key_of, sha256
from fenrik.core.packing import pack, unpack
from fenrik.core.placing import Placing
from fenrik.core.progress import Progress, silent
from fenrik.core.recognise import Hole, Recognition, all_holes, recognise
from fenrik.core.recognise.features import Vector
from fenrik.core.regions import Shadow
from fenrik.core.setups.grids import Instance, join_meshes
from fenrik.core.setups.stocks import box_mesh
from fenrik.core.sketches import Curve, sketch_curves
from fenrik.core.solids import Mesh, Solid, read_solid
from fenrik.core.solids.exact import ExactFaces
from fenrik.core.solids.packing import pack_solid, unpack_solid
from fenrik.core.solids.picture import picture_of
from fenrik.core.solids.reading import face_bounds, mesh_at
from fenrik.core.solids.seeing import seen_faces
from fenrik.core.store import Store

SOLID_VERSION, RECOGNISE_VERSION, PICTURE_VERSION = 7, 2, 1
SOLIDS_KEPT = 16
PROOF_DEFLECTION_MM, PROOF_SHARE = 0.008, 5e-5
"""Triangles that find places for the proof: so fine, or this share of the part's size; the exact faces do the rest."""
FINE_MM, COARSER = 0.002, 4
"""Deflections of triangles are the one, times powers of the other."""
HOLES = TypeAdapter(list[Hole])

_opened: OrderedDict[str, Solid] = OrderedDict()
_opened_lock = threading.Lock()


class Geometry:
    """The geometry of one job. Keys are cheap; anything else is made on demand and kept in the store.

    Args:
        job: the document.
        model: the bytes of the model file (None where the job has no part yet).
        store: where artefacts are kept.
        cell_mm: resolution of the stock in place of the job's own.
        files: further files of the job, by name.
    """

    def __init__(
        self,
        job: Job,
        model: bytes | None,
        store: Store,
        cell_mm: float | None = None,
        files: Mapping[str, bytes] | None = None,
    ) -> None:
        self.job, self.model, self.store = job, model, store
        self.cell_given = cell_mm
        self.files = files or {}
        self._placings: dict[str, Placing] = {}
        self._shadows: dict[tuple[str, int | None, float], Shadow] = {}
        self._distances: dict[str, DistanceIndex] = {}
        self._seen: dict[str, list[int]] = {}
        self.looks: dict[tuple[Any, ...], str] = {}
        """What operations that may touch all of the part see of it, by setup, copy and kind of look; see `picks`."""

    @cached_property
    def model_key(self) -> str:
        """Key of all bodies of the model file."""
        part = self.job.part
        if part is None or self.model is None:
            raise fail("part", "is missing.", "Bring in a model file first.")
        suffix = part.file.rsplit(".", 1)[-1].lower()
        return key_of("solid", SOLID_VERSION, file=sha256(self.model), suffix=suffix, scale=part.scale)

    @property
    def solid_key(self) -> str:
        """Key of the bodies that are the part."""
        part = self.job.part
        roles = [r for r in part.roles if r.role != "part"] if part else []
        return key_of("part", SOLID_VERSION, model=self.model_key, roles=roles) if roles else self.model_key

    def picture(self) -> bytes:
        """A small picture of the part as PNG.

        Raises:
            FenrikError: when there is no part.
        """
        key = key_of("picture", PICTURE_VERSION, solid=self.solid_key)
        return self._made(key, "picture", lambda: picture_of(self.solid.mesh))

    def take_over(self, other: Geometry) -> None:
        """Take over what was worked out for another document that differs in its operations alone."""
        if self.job.model_copy(update={"operations": other.job.operations}) == other.job:
            self._placings, self._shadows, self._distances = other._placings, other._shadows, other._distances
            self._seen, self.looks = other._seen, other.looks

    def seen_in(self, setup: Setup) -> list[int]:
        """Numbers of the faces of the part that can be seen along the tool axis of a setup."""
        if setup.id in self._seen:
            return self._seen[setup.id]
        placing = self.placing(setup)
        turn = np.round(placing.frame.rotation[:, 2], 12).tolist()
        key = key_of("seen", SOLID_VERSION, solid=self.solid_key, makes=setup.makes, look=turn)
        data = self._made(
            key, "seen", lambda: pack(np.flatnonzero(seen_faces(placing.part, placing.frame.rotation[:, 2])).tolist())
        )
        self._seen[setup.id] = unpack(data)[0]
        return self._seen[setup.id]

    def placing(self, setup: Setup) -> Placing:
        """The setup worked out: frame, copies, stock, fixtures, zero."""
        if setup.id not in self._placings:
            bare = self._without_rows
            self._placings[setup.id] = Placing(
                bare.job,
                setup,
                self.all_bodies,
                self._made_in(setup),
                bare.file,
                lambda other: bare.placing(bare.job.setup(other)),
                self.cell_given or self.job.cell_mm,
                bare._solid,
            )
        return self._placings[setup.id]

    @cached_property
    def _without_rows(self) -> Geometry:
        """The same for placings to hold, which go on from document to document: they need no operations, and a document
        of a thousand rows is let go at once where nothing holds it in a circle."""
        bare = Geometry(
            self.job.model_copy(update={"operations": []}), self.model, self.store, self.cell_given, self.files
        )
        bare._placings, bare.all_bodies = self._placings, self.all_bodies
        return bare

    def _made_in(self, setup: Setup) -> Solid:
        if not setup.makes:
            return self.solid
        names = [b.name for b in self.all_bodies.bodies]
        if setup.makes not in names:
            raise fail(
                f"setups.{setup.id}.makes",
                "is lost: the model has no body of that name.",
                "Choose another body.",
                setup.makes,
            )
        from fenrik.core.solids.splitting import take_bodies

        return take_bodies(self.all_bodies, [names.index(setup.makes)])

    def file(self, name: str) -> bytes:
        """The bytes of a further file of the job.

        Raises:
            FenrikError: when it is not there.
        """
        if name not in self.files:
            raise fail("files", "is not there.", "Bring the file in again.", name)
        return self.files[name]

    def frame(self, setup: Setup) -> Frame:
        return self.placing(setup).frame

    def zero(self, setup: Setup) -> Points:
        return self.placing(setup).zero

    def cell_mm(self, setup: Setup) -> float:
        return self.placing(setup).cell_mm

    def sketch(self, sketch_id: str) -> dict[str, list[Curve]]:
        """The curves of a sketch, by item, in its frame (zero and axes of the work frame, z at its level).

        Raises:
            FenrikError: naming what is lost or wrong in it.
        """
        sketch = next((s for s in self.job.sketches if s.id == sketch_id), None)
        if sketch is None:
            raise fail("sketch", "does not exist (any more).", "Choose another sketch.", sketch_id)
        return sketch_curves(sketch, self.solid if self.job.part else None, self.sketch_frame(sketch_id), self.file)

    def sketch_frame(self, sketch_id: str) -> Frame:
        """The frame that a sketch lies on."""
        sketch = next(s for s in self.job.sketches if s.id == sketch_id)
        setup = next((s for s in self.job.setups if s.id == sketch.setup), None)
        return self.placing(setup).work_frame if setup is not None else Frame()

    def _made(self, key: str, kind: str, make: Callable[[], bytes]) -> bytes:
        data = self.store.get(key)
        if data is None:
            data = make()
            self.store.put(key, kind, data)
        return data

    @cached_property
    def all_bodies(self) -> Solid:
        """All bodies of the model file."""
        part, model = self.job.part, self.model
        key = self.model_key
        assert part is not None
        assert model is not None
        return self._solid(key, lambda: read_solid(model, part.file, part.scale))

    @cached_property
    def solid(self) -> Solid:
        """The bodies that are the part.

        Raises:
            FenrikError: when no body is, or a role names a body that the model does not have.
        """
        part = self.job.part
        names = {b.name for b in self.all_bodies.bodies} if part is not None and part.roles else set()
        for k, given in enumerate(part.roles if part is not None else []):
            if given.body not in names:
                raise fail(
                    f"part.roles.{k}.body",
                    "is lost: the model has no body of that name.",
                    f"Take the role out, or name one of {', '.join(sorted(names))}.",
                    given.body,
                )
        if part is None or not any(r.role != "part" for r in part.roles):
            return self.all_bodies

        def make() -> Solid:
            wanted = [k for k, b in enumerate(self.all_bodies.bodies) if part.role_of(b.name) == "part"]
            if not wanted:
                raise fail("part.roles", "leave no body that is the part.", "Make one body the part.")
            from fenrik.core.solids.splitting import take_bodies

            return take_bodies(self.all_bodies, wanted)

        return self._solid(self.solid_key, make)

    @property
    def part_faces(self) -> list[int]:
        """The number in the whole model of each face of the part."""
        part = self.job.part
        return [
            f
            for b in self.all_bodies.bodies
            if part is None or part.role_of(b.name) == "part"
            for f in range(b.first_face, b.first_face + b.faces)
        ]

    def _solid(self, key: str, make: Callable[[], Solid]) -> Solid:
        """A solid from the store; those used last are kept opened."""
        with _opened_lock:
            if key in _opened:
                _opened.move_to_end(key)
                return _opened[key]
        solid = unpack_solid(self._made(key, "solid", lambda: pack_solid(make())))
        with _opened_lock:
            _opened[key] = solid
            while len(_opened) > SOLIDS_KEPT:
                _opened.popitem(last=False)
        return solid

    def features_of(self, setup: Setup) -> Recognition:
        """The features of what a setup makes, for all directions."""
        if not setup.makes:
            return self.recognition()
        key = key_of("features", RECOGNISE_VERSION, solid=self.solid_key, makes=setup.makes)
        data = self._made(key, "features", lambda: recognise(self.placing(setup).part).model_dump_json().encode())
        return Recognition.model_validate_json(data)

    def recognition(self, directions: list[Vector] | None = None, progress: Progress = silent) -> Recognition:
        """The features of the part, for some directions or all."""
        key = key_of("features", RECOGNISE_VERSION, solid=self.solid_key, directions=directions)
        data = self._made(
            key,
            "features",
            lambda: recognise(self.solid, directions, progress, self._holes()).model_dump_json().encode(),
        )
        return Recognition.model_validate_json(data)

    def _holes(self) -> list[Hole]:
        """All holes of the part, which looks in every direction share."""
        key = key_of("holes", RECOGNISE_VERSION, solid=self.solid_key)
        return HOLES.validate_json(self._made(key, "features", lambda: HOLES.dump_json(all_holes(self.solid))))

    def mesh_of_one(self, setup: Setup, deflection_mm: float) -> Mesh:
        """The triangles of the first part in a setup's frame.

        The deflection is rounded down to one of few, so that operations share their triangles.
        """
        placing = self.placing(setup)
        return self._mesh(placing.part, setup.makes, deflection_mm).in_frame(placing.frame)

    def part_mesh(self, deflection_mm: float) -> Mesh:
        """The triangles of the part, in its own coordinates; the deflection is rounded down likewise."""
        return self._mesh(self.solid, "", deflection_mm)

    def _mesh(self, solid: Solid, makes: str, deflection_mm: float) -> Mesh:
        step = FINE_MM * COARSER ** math.floor(math.log(max(deflection_mm, 2e-5) / FINE_MM, COARSER) + 1e-9)
        key = key_of("mesh", SOLID_VERSION, solid=self.solid_key, makes=makes, deflection=step)

        def make() -> bytes:
            mesh = mesh_at(solid, step)
            return pack(
                {"deflection": mesh.deflection_mm},
                vertices=mesh.vertices,
                triangles=mesh.triangles,
                faces=mesh.face_ids,
                **({} if mesh.parameters is None else {"parameters": mesh.parameters}),
            )

        meta, arrays = unpack(self._made(key, "mesh", make))
        return Mesh(
            arrays["vertices"], arrays["triangles"], arrays["faces"], meta["deflection"], arrays.get("parameters")
        )

    def mesh(self, setup: Setup, deflection_mm: float, instance: int | None = None) -> Mesh:
        """The triangles of the part (all copies, or one) in a setup's frame."""
        mesh = self.mesh_of_one(setup, deflection_mm)
        if instance is not None:
            return self.instance(setup, instance).mesh(mesh)
        return self.placing(setup).mesh_of_parts(mesh)

    def part_distances(self, setup: Setup) -> DistanceIndex:
        """All copies of the part in a setup's frame, made ready to be asked for distances to their exact faces; kept
        for the rows and the proof of one setup."""
        found = self._distances.get(setup.id)
        if found is None:
            size = float(np.linalg.norm(np.ptp(self.placing(setup).one_part, axis=0)))
            found = DistanceIndex.build(*self.exact_part(setup, max(PROOF_DEFLECTION_MM, PROOF_SHARE * size)))
            self._distances.clear()
            self._distances[setup.id] = found
        return found

    def exact_part(
        self, setup: Setup, deflection_mm: float, instance: int | None = None
    ) -> tuple[Mesh, ExactFaces | None]:
        """The part (all copies, or one) in a setup's frame; the faces of each copy have numbers of their own."""
        placing = self.placing(setup)
        one, surfaces = self.mesh_of_one(setup, deflection_mm), placing.part.surfaces
        meshes, faces, count = [], [], len(placing.part.faces)
        for k, copy in enumerate(placing.instances if instance is None else [self.instance(setup, instance)]):
            mesh = copy.mesh(one)
            meshes.append(replace(mesh, face_ids=mesh.face_ids + np.int32(k * count)))
            if surfaces is not None:
                faces.append(surfaces.in_frame(placing.frame).moved(*copy.motion))
        return join_meshes(meshes), ExactFaces.joined(faces) if faces else None

    def shadow(self, setup: Setup, mesh: Mesh, instance: int | None) -> Shadow:
        """The shadow of a setup's triangles, kept for the operations that follow with the same ones."""
        key = (setup.id, instance, mesh.deflection_mm)
        if key not in self._shadows:
            self._shadows[key] = Shadow(mesh)
        return self._shadows[key]

    def instance(self, setup: Setup, number: int) -> Instance:
        found = next((i for i in self.placing(setup).instances if i.number == number), None)
        if found is None:
            raise fail(
                "instance",
                f"is not in the grid: it has {len(self.placing(setup).instances)} copies.",
                "Choose a copy.",
                number,
            )
        return found

    def face_bounds(self, setup: Setup, faces: list[int]) -> Points:
        """Lowest and highest corner of faces of the first part in a setup's frame, (2, 3)."""
        placing = self.placing(setup)
        return face_bounds(placing.part, faces, placing.frame)

    def obstacles(self, setup: Setup, instance: int | None) -> Mesh | None:
        """What an operation keeps clear of beside its part: fixtures, and the blanks of other copies."""
        placing = self.placing(setup)
        meshes = [m for m in [placing.fixture_mesh()] if m is not None]
        if instance is not None:
            meshes += [box_mesh(*box) for number, box in placing.blank_boxes() if number != instance]
        return join_meshes(meshes) if meshes else None
