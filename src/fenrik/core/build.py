"""What depends on what: artefacts, their keys, and how each is made.

solid → stock 0 → (path → stock) for each operation → programs → proof. Every artefact is addressed by a key made of
its inputs and the version of its algorithm, so that a change makes out of date exactly what depends on it.
"""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from fenrik.core.artefacts import pack_programs, pack_proof, unpack_programs
from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.copies import COPIES_VERSION, MirrorCopies, copied, joined_copies, where_stock_lets
from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Frame, Points
from fenrik.core.inputs import absolute_params, strategy_inputs
from fenrik.core.job import Job, Operation, Setup
from fenrik.core.kernels import kernels_behind
from fenrik.core.keys import key_of, sha256
from fenrik.core.looks import part_look, sketch_look
from fenrik.core.packing import pack, unpack
from fenrik.core.placing import Placing
from fenrik.core.posting import Dialect, PostedOperation, Program, load_dialects, post_programs
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof import ProofInputs, prove
from fenrik.core.recognise import Recognition, recognise
from fenrik.core.recognise.features import Vector
from fenrik.core.regions import Shadow
from fenrik.core.setups.grids import Instance, join_meshes
from fenrik.core.setups.stocks import EarlierStock, box_mesh
from fenrik.core.sketches import Curve, sketch_curves
from fenrik.core.solids import Mesh, Solid, read_solid
from fenrik.core.solids.exact import ExactFaces
from fenrik.core.solids.packing import pack_solid, unpack_solid
from fenrik.core.solids.reading import mesh_at
from fenrik.core.solids.seeing import seen_faces
from fenrik.core.solids.splitting import take_bodies
from fenrik.core.stock import Stock, cut
from fenrik.core.store import Store
from fenrik.core.strategies.common import Outcome, StrategyInputs
from fenrik.core.strategies.prismatic import TargetParams
from fenrik.core.strategies.registry import STRATEGIES, run_strategy
from fenrik.core.toolpath import Feeds, Toolpath
from fenrik.core.tools import Assembly, cutting_profile

SOLID_VERSION, STOCK_VERSION, PROGRAM_VERSION, PROOF_VERSION = 3, 3, 5, 8
RECOGNISE_VERSION = 1
SOLIDS_KEPT = 16
PROOF_DEFLECTION_MM, PROOF_SHARE = 0.016, 5e-5
"""Triangles that find places for the proof: so fine, or this share of the part's size; the exact faces do the rest."""
FLATTEN_MM = 0.002
STOCK_CODE, PROGRAM_CODE, PROOF_CODE = (
    kernels_behind(f"fenrik.core.{name}") for name in ("stock.cut", "posting.writing", "proof.run")
)
"""Sources of the kernels behind these artefacts; keys change with them."""


_opened: OrderedDict[str, Solid] = OrderedDict()
_opened_lock = threading.Lock()


@dataclass(frozen=True)
class _Link:
    """Keys of one operation in its chain: of its path, and of the stock after it."""

    path: str
    stock: str


class Build:
    """The artefacts of one job. Keys are cheap; anything else is computed on demand and kept in the store.

    Args:
        job: the document.
        model: the bytes of the model file (None where the job has no part yet).
        store: where artefacts are kept.
        cell_mm: resolution of the stock in place of the job's own.
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
        self._chains: dict[str, list[_Link]] = {}

    def with_job(self, job: Job) -> Build:
        """Another document over the same model, files and store."""
        return Build(job, self.model, self.store, self.cell_given, self.files)

    # Keys

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

    def _stock_key_before(self, operation: Operation) -> str:
        setup = self.job.setup(operation.setup)
        index = self._place_of(operation)
        return self._links(setup, index)[index - 1].stock if index else self.first_stock_key(setup)

    def _place_of(self, operation: Operation) -> int:
        """How many operations run before one in its setup; for one that is off, all of them."""
        route = self.job.route(self.job.setup(operation.setup))
        return next((k for k, o in enumerate(route) if o.number == operation.number), len(route))

    def _links(self, setup: Setup, count: int) -> list[_Link]:
        """Keys of the first operations of a setup, each worked out once, from the first on."""
        links = self._chains.get(setup.id, [])
        if len(links) < count:
            # A list of its own, put in place whole: several requests may ask one build at the same time.
            links = list(links)
            route = self.job.route(setup)
            before = links[-1].stock if links else self.first_stock_key(setup)
            for operation in route[len(links) : count]:
                path = self._path_key(operation, before)
                before = self._stock_key_of(operation, path)
                links.append(_Link(path, before))
            self._chains[setup.id] = links
        return links

    def first_stock_key(self, setup: Setup) -> str:
        return key_of(
            "stock 0", STOCK_VERSION, code=STOCK_CODE, **self.placing(setup).stock_inputs(self._last_stock_key)
        )

    def _last_stock_key(self, setup_id: str) -> str:
        setup = self.job.setup(setup_id)
        count = len(self.job.route(setup))
        return self._links(setup, count)[count - 1].stock if count else self.first_stock_key(setup)

    def seen_in(self, setup: Setup) -> list[int]:
        """Numbers of the faces of the part that can be seen along the tool axis of a setup."""
        placing = self.placing(setup)
        turn = np.round(placing.frame.rotation[:, 2], 12).tolist()
        key = key_of("seen", SOLID_VERSION, solid=self.solid_key, makes=setup.makes, look=turn)
        data = self._made(
            key, "seen", lambda: pack(np.flatnonzero(seen_faces(placing.part, placing.frame.rotation[:, 2])).tolist())
        )
        faces: list[int] = unpack(data)[0]
        return faces

    def path_key(self, operation: Operation) -> str:
        """Key of an operation's path."""
        index, setup = self._place_of(operation), self.job.setup(operation.setup)
        route = self.job.route(setup)
        if index < len(route) and route[index] is operation:
            return self._links(setup, index + 1)[index].path
        return self._path_key(operation, self._stock_key_before(operation))

    def _path_key(self, operation: Operation, before: str) -> str:
        setup, tool = self.job.setup(operation.setup), self.job.tool(operation.tool)
        params = absolute_params(self, operation)
        strategy = STRATEGIES[operation.params.strategy]
        return key_of(
            "path",
            strategy.version,
            code=strategy.code,
            part=part_look(self, operation),
            sketch=sketch_look(self, operation),
            before=before,
            cutter=tool.cutter,
            feeds=asdict(self.feeds(operation)),
            params=params,
            clearance=setup.clearance_mm,
            retract=setup.retract_mm,
            **self._target_inputs(operation),
            **(
                {"copies": [COPIES_VERSION, operation.copies, np.round(self.zero(setup), 9).tolist()]}
                if operation.copies
                else {}
            ),
        )

    def _target_inputs(self, operation: Operation) -> dict[str, Any]:
        """What operations on picked geometry see beside it: spindle speed, work zero, the whole tool."""
        if not isinstance(operation.params, TargetParams):
            return {}
        setup = self.job.setup(operation.setup)
        return {
            "rpm": self.rpm(operation),
            "zero": round(float(self.zero(setup)[2]), 9),
            "tool": self.job.tool(operation.tool),
        }

    def stock_key(self, operation: Operation) -> str:
        return self._stock_key_of(operation, self.path_key(operation))

    def _stock_key_of(self, operation: Operation, path: str) -> str:
        return key_of("stock", STOCK_VERSION, code=STOCK_CODE, path=path, cutter=self.job.tool(operation.tool).cutter)

    def program_key(self, setup: Setup) -> str:
        rows = [
            {
                "path": self.path_key(o),
                "number": o.number,
                "name": o.name,
                "tool": self._tool_words(o),
                "rpm": self.rpm(o),
            }
            for o in self.job.route(setup)
        ]
        return key_of(
            "program",
            PROGRAM_VERSION,
            code=PROGRAM_CODE,
            rows=rows,
            dialect=self.dialect(setup),
            name=self.program_name(setup),
            offset=setup.work_offset,
            zero=np.round(self.zero(setup), 9).tolist(),
        )

    def proof_key(self, setup: Setup) -> str:
        tools = [self.job.tool(o.tool) for o in self.job.route(setup)]
        return key_of(
            "proof",
            PROOF_VERSION,
            code=PROOF_CODE,
            program=self.program_key(setup),
            stock=self.first_stock_key(setup),
            part=self.solid_key,
            makes=setup.makes,
            grid=setup.grid,
            fixtures=setup.fixtures,
            place=[setup.table_below_mm, setup.on_table_mm],
            tools=tools,
            machine=self.job.machine_of(setup),
            settings=self.job.proof,
            tolerances=self._tolerances(setup),
        )

    # Small things derived from the document

    def feeds(self, operation: Operation) -> Feeds:
        tool = self.job.tool(operation.tool)
        return Feeds(
            operation.cutting_feed_mm_min or tool.cutting_feed_mm_min, tool.entry_feed_mm_min, tool.exit_feed_mm_min
        )

    def rpm(self, operation: Operation) -> float:
        return operation.spindle_rpm or self.job.tool(operation.tool).spindle_rpm

    def dialect(self, setup: Setup) -> Dialect:
        dialects = load_dialects()
        if setup.dialect not in dialects:
            raise fail(
                f"setups.{setup.id}.dialect",
                "is not a controller that Fenrik knows.",
                f"Choose one of {', '.join(dialects)}.",
                setup.dialect,
            )
        return dialects[setup.dialect]

    def program_name(self, setup: Setup) -> str:
        plain = "".join(c if c.isalnum() else "-" for c in f"{self.job.name}-{setup.name or setup.id}".lower())
        return "-".join(p for p in plain.encode("ascii", "ignore").decode().split("-") if p)[:60] or "program"

    def _tool_words(self, operation: Operation) -> dict[str, Any]:
        tool = self.job.tool(operation.tool)
        return {
            "number": tool.number,
            "label": tool.label,
            "coolant": tool.coolant,
            "offsets": [tool.length_offset, tool.diameter_offset],
        }

    def _tolerances(self, setup: Setup) -> dict[int, float]:
        """How far each operation may enter the model: its tolerance, and what it goes in on purpose."""
        return {
            o.number: o.params.tolerance_mm
            + STRATEGIES[o.params.strategy].meant_depth_mm(o.params, self.job.tool(o.tool).cutter)
            for o in self.job.route(setup)
        }

    def placing(self, setup: Setup) -> Placing:
        """The setup worked out: frame, copies, stock, fixtures, zero."""
        if setup.id not in self._placings:
            self._placings[setup.id] = Placing(
                self.job,
                setup,
                self.all_bodies,
                self._made_in(setup),
                self.file,
                lambda other: self.placing(self.job.setup(other)),
                self.cell_given or self.job.cell_mm,
                self._solid,
            )
        return self._placings[setup.id]

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

    # Artefacts

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
            FenrikError: when no body is.
        """
        part = self.job.part
        if part is None or not any(r.role != "part" for r in part.roles):
            return self.all_bodies

        def make() -> Solid:
            wanted = [k for k, b in enumerate(self.all_bodies.bodies) if part.role_of(b.name) == "part"]
            if not wanted:
                raise fail("part.roles", "leave no body that is the part.", "Make one body the part.")
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
        """The features of the part, for some directions or all.

        Raises:
            FenrikError: when the part is a mesh.
        """
        key = key_of("features", RECOGNISE_VERSION, solid=self.solid_key, directions=directions)
        data = self._made(
            key, "features", lambda: recognise(self.solid, directions, progress).model_dump_json().encode()
        )
        return Recognition.model_validate_json(data)

    def mesh_of_one(self, setup: Setup, deflection_mm: float) -> Mesh:
        """The triangles of the first part in a setup's frame.

        The deflection is rounded down to a power of two micrometres.
        """
        step = 2.0 ** math.floor(math.log2(max(deflection_mm, 2e-5) * 1000)) / 1000
        placing = self.placing(setup)
        key = key_of("mesh", SOLID_VERSION, solid=self.solid_key, makes=setup.makes, deflection=step)

        def make() -> bytes:
            mesh = mesh_at(placing.part, step)
            return pack(
                {"deflection": mesh.deflection_mm},
                vertices=mesh.vertices,
                triangles=mesh.triangles,
                faces=mesh.face_ids,
                **({} if mesh.parameters is None else {"parameters": mesh.parameters}),
            )

        meta, arrays = unpack(self._made(key, "mesh", make))
        mesh = Mesh(
            arrays["vertices"], arrays["triangles"], arrays["faces"], meta["deflection"], arrays.get("parameters")
        )
        return mesh.in_frame(placing.frame)

    def mesh(self, setup: Setup, deflection_mm: float, instance: int | None = None) -> Mesh:
        """The triangles of the part (all copies, or one) in a setup's frame."""
        mesh = self.mesh_of_one(setup, deflection_mm)
        if instance is not None:
            return self.instance(setup, instance).mesh(mesh)
        return self.placing(setup).mesh_of_parts(mesh)

    def part_distances(self, setup: Setup) -> DistanceIndex:
        """All copies of the part in a setup's frame, made ready to be asked for distances to their exact faces."""
        placing = self.placing(setup)
        size = float(np.linalg.norm(np.ptp(placing.one_part, axis=0)))
        one, surfaces = self.mesh_of_one(setup, max(PROOF_DEFLECTION_MM, PROOF_SHARE * size)), placing.part.surfaces
        meshes, faces, count = [], [], len(placing.part.faces)
        for k, instance in enumerate(placing.instances):
            mesh = instance.mesh(one)
            meshes.append(replace(mesh, face_ids=mesh.face_ids + np.int32(k * count)))
            if surfaces is not None:
                faces.append(surfaces.in_frame(placing.frame).moved(*instance.motion))
        return DistanceIndex.build(join_meshes(meshes), ExactFaces.joined(faces) if faces else None)

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

    def obstacles(self, setup: Setup, instance: int | None) -> Mesh | None:
        """What an operation keeps clear of beside its part: fixtures, and the blanks of other copies."""
        placing = self.placing(setup)
        meshes = [m for m in [placing.fixture_mesh()] if m is not None]
        if instance is not None:
            meshes += [box_mesh(*box) for number, box in placing.blank_boxes() if number != instance]
        return join_meshes(meshes) if meshes else None

    def first_stock(self, setup: Setup) -> Stock:
        def make() -> bytes:
            return self.placing(setup).make_stock(self._last_stock).to_bytes()

        return Stock.from_bytes(self._made(self.first_stock_key(setup), "stock", make))

    def has_first_stock(self, setup: Setup) -> bool:
        """Whether the first stock of a setup can be had without computing a path."""
        earlier = setup.stock
        return not isinstance(earlier, EarlierStock) or self.store.get(self._last_stock_key(earlier.setup)) is not None

    def _last_stock(self, setup_id: str) -> Stock:
        setup = self.job.setup(setup_id)
        route = self.job.route(setup)
        return self.stock_after(route[-1]) if route else self.first_stock(setup)

    def stock_before(self, operation: Operation) -> Stock:
        setup = self.job.setup(operation.setup)
        index = self._place_of(operation)
        return self.stock_after(self.job.route(setup)[index - 1]) if index else self.first_stock(setup)

    def has_stock_before(self, operation: Operation) -> bool:
        """Whether the stock before an operation is there already."""
        return self.store.get(self._stock_key_before(operation)) is not None

    def path(self, operation: Operation, progress: Progress = silent) -> Outcome:
        """The path of an operation in the setup's frame, and what it could not reach."""

        def make() -> bytes:
            inputs, params = strategy_inputs(self, operation, progress), absolute_params(self, operation)
            outcome = run_strategy(inputs, params)
            if operation.copies is not None:
                outcome = self._copied(outcome, operation, inputs, params)
            columns = {k: getattr(outcome.toolpath, k) for k in Toolpath.__dataclass_fields__}
            return pack([u.model_dump() for u in outcome.unreached], **columns)

        meta, arrays = unpack(self._made(self.path_key(operation), "path", make))
        return Outcome(Toolpath(**arrays), [Unreached.model_validate(u) for u in meta])

    def _copied(self, outcome: Outcome, operation: Operation, inputs: StrategyInputs, params: Any) -> Outcome:
        """An outcome with the copies that its operation asks for."""
        copies, other = operation.copies, outcome.toolpath
        assert copies is not None
        if isinstance(copies, MirrorCopies) and copies.keep_climb and hasattr(params, "milling"):
            turned = "conventional" if params.milling == "climb" else "climb"
            other = run_strategy(inputs, params.model_copy(update={"milling": turned})).toolpath
        zero = self.zero(self.job.setup(operation.setup))
        paths = copied(outcome.toolpath, other, copies, zero)
        cutter = cutting_profile(self.job.tool(operation.tool).cutter)
        original = not isinstance(copies, MirrorCopies) or copies.original
        kept, told = where_stock_lets(paths, original, inputs.stock, cutter)
        return Outcome(joined_copies(kept), [*outcome.unreached, *told])

    def stock_after(self, operation: Operation, progress: Progress = silent) -> Stock:
        """The stock after an operation, cut with the paths of all that are missing before it and its own."""
        setup = self.job.setup(operation.setup)
        rows = self.job.route(setup)[: self._place_of(operation) + 1]
        links = self._links(setup, len(rows))
        kept = next((k for k in range(len(rows) - 1, -1, -1) if self.store.get(links[k].stock) is not None), -1)
        if kept == len(rows) - 1:
            return Stock.from_bytes(self._made(links[kept].stock, "stock", lambda: b""))
        stock = self.stock_after(rows[kept]) if kept >= 0 else self.first_stock(setup)
        for k in range(kept + 1, len(rows)):
            poses = self.path(rows[k]).toolpath.poses(FLATTEN_MM)
            cutter = Assembly(cutting_profile(self.job.tool(rows[k].tool).cutter))
            stock, _ = cut(stock, poses, cutter, 0, progress if k == len(rows) - 1 else silent)
            self.store.put(links[k].stock, "stock", stock.to_bytes())
        return stock

    def programs(self, setup: Setup) -> list[Program]:
        """The posted programs of a setup."""

        def make() -> bytes:
            zero = self.zero(setup)
            rows = [
                PostedOperation(
                    o.number, o.name, self.job.tool(o.tool), self.rpm(o), self.path(o).toolpath.moved(-zero)
                )
                for o in self.job.route(setup)
            ]
            programs = post_programs(self.dialect(setup), rows, self.program_name(setup), setup.work_offset)
            return pack_programs(programs)

        return unpack_programs(self._made(self.program_key(setup), "program", make))

    def proof(self, setup: Setup, progress: Progress = silent) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
        """What the programs of a setup do: a summary as JSON, and the chart's columns.

        The stock after each operation is kept under `proof_stock`.
        """

        def make() -> bytes:
            proof = prove(self._proof_inputs(setup), progress)
            for number, stock in proof.stocks:
                self.store.put(self._proof_stock_key(setup, number), "stock", stock.to_bytes())
            return pack_proof(proof, self.zero(setup))

        return unpack(self._made(self.proof_key(setup), "proof", make))

    def _proof_inputs(self, setup: Setup) -> ProofInputs:
        programs = self.programs(setup)
        tool_of = {o.number: o.tool for o in self.job.route(setup)}
        return ProofInputs(
            stock=self.first_stock(setup),
            part=self.part_distances(setup),
            programs=programs,
            tools={t.number: t for t in self.job.tools},
            tolerances=self._tolerances(setup),
            first_tools=[tool_of[p.operations[0]] for p in programs],
            machine=self.job.machine_of(setup),
            zero=self.zero(setup),
            settings=self.job.proof,
            fixtures=self.placing(setup).fixture_mesh(),
            on_table=setup.on_table_mm,
            table=self.placing(setup).known_table,
        )

    def _proof_stock_key(self, setup: Setup, number: int) -> str:
        return key_of("proof stock", PROOF_VERSION, proof=self.proof_key(setup), after=number)

    def proof_stock(self, setup: Setup, number: int | None) -> Stock:
        """The stock of the proof after an operation; before the first one for None."""
        if number is None:
            return self.first_stock(setup)
        data = self.store.get(self._proof_stock_key(setup, number))
        if data is None:
            raise fail("proof", "has not been run yet.", "Run the proof first.")
        return Stock.from_bytes(data)

    def compute(
        self, setup: Setup, numbers: set[int] | None = None, with_proof: bool = True, progress: Progress = silent
    ) -> None:
        """Compute what is missing of a setup: paths of the given (or all) operations, and the proof."""
        route = [o for o in self.job.route(setup) if numbers is None or o.number in numbers]
        share = 0.75 if with_proof else 1.0
        for k, operation in enumerate(route):
            step = part_of(progress, share * k / len(route), share * (k + 1) / len(route))
            self.path(operation, lambda f, w, s=step, n=operation.number: s(0.7 * f, f"{n}: {w}"))  # type: ignore[misc]
            self.stock_after(operation, lambda f, w, s=step, n=operation.number: s(0.7 + 0.3 * f, f"{n}: {w}"))  # type: ignore[misc]
        if with_proof:
            self.proof(setup, part_of(progress, share, 1.0))
        progress(1.0, "done")
