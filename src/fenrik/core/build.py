"""What depends on what: artefacts, their keys, and how each is made.

solid → stock 0 → (path → stock) for each operation → programs → proof. Every artefact is addressed by a key made of
its inputs and the version of its algorithm, so that a change makes out of date exactly what depends on it.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import asdict
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from fenrik.core.errors import fail
from fenrik.core.findings import Unreached
from fenrik.core.frames import Frame, Points
from fenrik.core.job import Job, Operation, Setup, setup_frame, stock_box, work_zero
from fenrik.core.keys import key_of, sha256
from fenrik.core.packing import pack, unpack
from fenrik.core.posting import Dialect, PostedOperation, Program, load_dialects, post_programs
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof import Proof, ProofInputs, prove
from fenrik.core.solids import Mesh, Solid, find_faces, read_solid
from fenrik.core.solids.packing import pack_solid, unpack_solid
from fenrik.core.solids.reading import mesh_at
from fenrik.core.stock import Bodies, Stock, cut
from fenrik.core.stock.field import suggested_cell
from fenrik.core.strategies import STRATEGIES, Outcome, StrategyInputs, run_strategy
from fenrik.core.strategies.common import TESSELLATION_SHARE
from fenrik.core.strategies.level_roughing import LevelRoughing
from fenrik.core.strategies.parallel_finishing import FacesBoundary, ParallelFinishing
from fenrik.core.toolpath import Feeds, Toolpath
from fenrik.core.tools import cutter_profile

SOLID_VERSION, STOCK_VERSION, PROGRAM_VERSION, PROOF_VERSION = 1, 1, 1, 1
PROOF_DEFLECTION_MM = 0.002
FLATTEN_MM = 0.002


class Store(Protocol):
    """Where artefacts are kept."""

    def get(self, key: str) -> bytes | None: ...
    def put(self, key: str, kind: str, data: bytes) -> None: ...


class MemoryStore(dict[str, bytes]):
    """Artefacts of one process."""

    def put(self, key: str, _kind: str, data: bytes) -> None:
        self[key] = data


class Build:
    """The artefacts of one job. Keys are cheap; anything else is computed on demand and kept in the store.

    Args:
        job: the document.
        model: the bytes of the model file (None where the job has no part yet).
        store: where artefacts are kept.
        cell_mm: resolution of the stock in place of the job's own.
    """

    def __init__(self, job: Job, model: bytes | None, store: Store, cell_mm: float | None = None) -> None:
        self.job, self.model, self.store = job, model, store
        self.cell_override = cell_mm or job.cell_mm

    # Keys

    @cached_property
    def solid_key(self) -> str:
        part = self.job.part
        if part is None or self.model is None:
            raise fail("part", "is missing.", "Bring in a model file first.")
        suffix = part.file.rsplit(".", 1)[-1].lower()
        return key_of("solid", SOLID_VERSION, file=sha256(self.model), suffix=suffix, scale=part.scale)

    def _stock_key_before(self, operation: Operation) -> str:
        setup = self.job.setup(operation.setup)
        before = [o for o in self.job.route(setup)]
        index = next((k for k, o in enumerate(before) if o.number == operation.number), len(before))
        return self.stock_key(before[index - 1]) if index > 0 else self.first_stock_key(setup)

    def first_stock_key(self, setup: Setup) -> str:
        return key_of(
            "stock 0",
            STOCK_VERSION,
            solid=self.solid_key,
            up=setup.up,
            spin=setup.spin_deg,
            stock=setup.stock,
            cell=self.cell_override,
        )

    def path_key(self, operation: Operation) -> str:
        setup, tool = self.job.setup(operation.setup), self.job.tool(operation.tool)
        params = self._absolute(operation) if self._uses_zero(operation) else operation.params
        version = STRATEGIES[operation.params.strategy][2]
        return key_of(
            "path",
            version,
            before=self._stock_key_before(operation),
            cutter=tool.cutter,
            feeds=asdict(self.feeds(operation)),
            params=params,
            clearance=setup.clearance_mm,
            retract=setup.retract_mm,
        )

    def stock_key(self, operation: Operation) -> str:
        tool = self.job.tool(operation.tool)
        return key_of("stock", STOCK_VERSION, path=self.path_key(operation), cutter=tool.cutter)

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
            rows=rows,
            dialect=self.dialect(setup),
            name=self.program_name(setup),
            offset=setup.work_offset,
            zero=setup.work_zero,
        )

    def proof_key(self, setup: Setup) -> str:
        tools = [self.job.tool(o.tool) for o in self.job.route(setup)]
        return key_of(
            "proof",
            PROOF_VERSION,
            program=self.program_key(setup),
            stock=self.first_stock_key(setup),
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
        return {"number": tool.number, "label": tool.label, "coolant": tool.coolant}

    def _tolerances(self, setup: Setup) -> dict[int, float]:
        return {o.number: o.params.tolerance_mm for o in self.job.route(setup)}

    def _uses_zero(self, operation: Operation) -> bool:
        p = operation.params
        return isinstance(p, LevelRoughing) and (p.top_mm is not None or p.bottom_mm is not None)

    def _absolute(self, operation: Operation) -> LevelRoughing | ParallelFinishing:
        """Parameters with heights of the work frame turned into heights of the setup's frame."""
        p = operation.params
        if not isinstance(p, LevelRoughing) or not self._uses_zero(operation):
            return p
        height = float(self.zero(self.job.setup(operation.setup))[2])
        return p.model_copy(
            update={name: value + height for name in ("top_mm", "bottom_mm") if (value := getattr(p, name)) is not None}
        )

    def frame(self, setup: Setup) -> Frame:
        return setup_frame(setup, self.solid)

    def zero(self, setup: Setup) -> Points:
        return work_zero(setup, self.frame(setup), self.solid)

    def cell_mm(self, setup: Setup) -> float:
        low, high = stock_box(setup, self.frame(setup), self.solid)
        return self.cell_override or suggested_cell(high - low)

    # Artefacts

    def _made(self, key: str, kind: str, make: Callable[[], bytes]) -> bytes:
        data = self.store.get(key)
        if data is None:
            data = make()
            self.store.put(key, kind, data)
        return data

    @cached_property
    def solid(self) -> Solid:
        part, model = self.job.part, self.model
        key = self.solid_key
        assert part is not None
        assert model is not None
        data = self._made(key, "solid", lambda: pack_solid(read_solid(model, part.file, part.scale)))
        return unpack_solid(data)

    def mesh(self, setup: Setup, deflection_mm: float) -> Mesh:
        """The part's triangles in a setup's frame, within a deflection rounded down to a power of two micrometres."""
        step = 2.0 ** math.floor(math.log2(max(deflection_mm, 2e-5) * 1000)) / 1000
        key = key_of("mesh", SOLID_VERSION, solid=self.solid_key, deflection=step)

        def make() -> bytes:
            mesh = mesh_at(self.solid, step)
            return pack(
                {"deflection": step if self.solid.is_exact else 0.0},
                vertices=mesh.vertices,
                triangles=mesh.triangles,
                faces=mesh.face_ids,
            )

        meta, arrays = unpack(self._made(key, "mesh", make))
        mesh = Mesh(arrays["vertices"], arrays["triangles"], arrays["faces"], meta["deflection"])
        return mesh.in_frame(self.frame(setup))

    def first_stock(self, setup: Setup) -> Stock:
        def make() -> bytes:
            low, high = stock_box(setup, self.frame(setup), self.solid)
            return Stock.box(low, high, self.cell_mm(setup)).to_bytes()

        return Stock.from_bytes(self._made(self.first_stock_key(setup), "stock", make))

    def stock_before(self, operation: Operation) -> Stock:
        setup = self.job.setup(operation.setup)
        route = self.job.route(setup)
        index = next((k for k, o in enumerate(route) if o.number == operation.number), len(route))
        return self.stock_after(route[index - 1]) if index > 0 else self.first_stock(setup)

    def path(self, operation: Operation, progress: Progress = silent) -> Outcome:
        """The path of an operation in the setup's frame, and what it could not reach."""

        def make() -> bytes:
            outcome = run_strategy(self._inputs(operation, progress), self._absolute(operation))
            columns = {k: getattr(outcome.toolpath, k) for k in Toolpath.__dataclass_fields__}
            return pack([u.model_dump() for u in outcome.unreached], **columns)

        meta, arrays = unpack(self._made(self.path_key(operation), "path", make))
        return Outcome(Toolpath(**arrays), [Unreached.model_validate(u) for u in meta])

    def _inputs(self, operation: Operation, progress: Progress) -> StrategyInputs:
        setup, params = self.job.setup(operation.setup), operation.params
        mesh = self.mesh(setup, params.tolerance_mm * TESSELLATION_SHARE)
        boundary = None
        if isinstance(params, ParallelFinishing) and isinstance(params.boundary, FacesBoundary):
            chosen = [
                i
                for k, s in enumerate(params.boundary.faces)
                for i in find_faces(self.solid, s, f"operations.{operation.number}.params.boundary.faces.{k}")
            ]
            boundary = mesh.of_faces(chosen)
        stock = self.stock_before(operation)
        top = stock_box(setup, self.frame(setup), self.solid)[1][2]
        return StrategyInputs(
            mesh,
            stock,
            self.job.tool(operation.tool),
            self.feeds(operation),
            float(top + setup.clearance_mm),
            float(top + setup.retract_mm),
            boundary,
            progress,
        )

    def stock_after(self, operation: Operation, progress: Progress = silent) -> Stock:
        """The stock after an operation, cut with its path."""

        def make() -> bytes:
            stock = self.stock_before(operation)
            flat, _ = self.path(operation).toolpath.flattened(FLATTEN_MM)
            bodies = Bodies(cutter_profile(self.job.tool(operation.tool).cutter))
            return cut(stock, flat.point[:-1], flat.point[1:], bodies, 0, progress)[0].to_bytes()

        return Stock.from_bytes(self._made(self.stock_key(operation), "stock", make))

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
            return _pack_programs(programs)

        return _unpack_programs(self._made(self.program_key(setup), "program", make))

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
            part=self.mesh(setup, PROOF_DEFLECTION_MM),
            programs=programs,
            tools={t.number: t for t in self.job.tools},
            tolerances=self._tolerances(setup),
            first_tools=[tool_of[p.operations[0]] for p in programs],
            machine=self.job.machine_of(setup),
            zero=self.zero(setup),
            settings=self.job.proof,
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


def _pack_programs(programs: list[Program]) -> bytes:
    meta = [{"name": p.name, "operations": p.operations} for p in programs]
    arrays: dict[str, np.ndarray] = {}
    for k, p in enumerate(programs):
        arrays[f"text{k}"] = np.frombuffer(p.text, np.uint8)
        for j, (lines, path) in enumerate(zip(p.line_of_motion, p.paths, strict=True)):
            arrays[f"lines{k}.{j}"] = lines
            arrays |= {f"{c}{k}.{j}": getattr(path, c) for c in Toolpath.__dataclass_fields__}
    return pack(meta, **arrays)


def _unpack_programs(data: bytes) -> list[Program]:
    meta, arrays = unpack(data)
    programs = []
    for k, p in enumerate(meta):
        count = range(len(p["operations"]))
        paths = [Toolpath(**{c: arrays[f"{c}{k}.{j}"] for c in Toolpath.__dataclass_fields__}) for j in count]
        programs.append(
            Program(
                p["name"],
                arrays[f"text{k}"].tobytes(),
                p["operations"],
                [arrays[f"lines{k}.{j}"] for j in count],
                paths,
            )
        )
    return programs


def pack_proof(proof: Proof, zero: Points) -> bytes:
    motions = proof.motions
    meta = {
        "findings": [f.model_dump() for f in proof.findings],
        "deviation": proof.deviation.model_dump(),
        "by_operation": {str(k): v.model_dump() for k, v in proof.by_operation.items()},
        "program_vs_path_mm": motions.apart_mm,
        "time_s": float(motions.seconds.sum()),
        "time_by_operation": {
            str(n): float(motions.seconds[motions.operation == n].sum())
            for n in dict.fromkeys(motions.operation.tolist())
        },
        "zero": zero.tolist(),
        "operations_in_order": [n for n, _ in proof.stocks],
    }
    path = motions.path
    return pack(
        meta,
        point=path.point,
        motion=path.motion,
        centre=path.centre,
        kind=path.kind,
        feed=path.feed,
        fresh=motions.fresh,
        operation=motions.operation,
        tool=motions.tool,
        program=motions.program,
        line=motions.line,
        seconds=motions.seconds,
        rpm=motions.rpm,
        removed=proof.removed_mm3,
        engagement=proof.engagement_deg,
        clearance=proof.clearance_mm,
    )
