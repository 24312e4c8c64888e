"""All artefacts of a job: what its chains of paths and stocks lead to, programs and proof."""

from __future__ import annotations

from typing import Any

import numpy as np

from fenrik.core.artefacts import pack_programs, pack_proof, unpack_programs
from fenrik.core.build.arm_ways import ArmWays
from fenrik.core.build.node import Node
from fenrik.core.errors import fail
from fenrik.core.job import Job, Operation, Setup
from fenrik.core.keys import key_of
from fenrik.core.packing import unpack
from fenrik.core.posting import Controller, Posted, PostedOperation, in_order, load_controllers, post_programs
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof import ProofInputs, prove
from fenrik.core.sources import kernels_behind
from fenrik.core.stock import Stock
from fenrik.core.strategies.common import Outcome

PROGRAM_VERSION, PROOF_VERSION = 11, 25
PROGRAM_CODE, PROOF_CODE = (kernels_behind(f"fenrik.core.{name}") for name in ("posting.writing", "proof.prove"))
"""Sources of the kernels behind these artefacts; keys change with them."""


class Build(ArmWays):
    """All artefacts of one job over its geometry. Keys are cheap; anything else is computed on demand."""

    def with_job(self, job: Job) -> Build:
        """Another document over the same model, files and store; what stays the same is not worked out anew."""
        made = Build(job, self.model, self.store, self.cell_given, self.files)
        made.take_over(self)
        return made

    def program_key(self, setup: Setup) -> str:
        return self._program_node(setup).key

    def _program_node(self, setup: Setup) -> Node:
        zero, controller, name = self.zero(setup), self.controller(setup), self.program_name(setup)
        machine = self.job.machine_of(setup)
        rows = [
            {
                "path": self.path_key(o),
                "number": o.number,
                "name": o.name,
                "tool": self._tool_words(o),
                "rpm": self.job.rpm(o),
                "way": self.arm_way_key(o),
            }
            for o in self.job.route(setup)
        ]
        lengths = [self.job.tool(o.tool).assembly_mm for o in self.job.route(setup)]
        inputs = {
            "code": PROGRAM_CODE,
            "rows": rows,
            "controller": controller.document,
            "joints": [machine.all_joints(), lengths] if controller.speaks_joints else None,
            "clamped": self._clamped_inputs(setup) if controller.speaks_joints and machine.turns else None,
            "name": name,
            "offset": setup.work_offset,
            "zero": np.round(zero, 9).tolist(),
        }

        def make() -> bytes:
            posted = [self._posted(o, zero) for o in self.job.route(setup)]
            clamped = self.clamped(setup) if machine.turns else None
            return pack_programs(post_programs(controller, machine, posted, name, setup.work_offset, clamped))

        return Node("program", PROGRAM_VERSION, inputs, make)

    def _posted(self, operation: Operation, zero: np.ndarray) -> PostedOperation:
        """An operation as it is posted: its path, and in a cell the joints along it."""
        job = self.job
        path, way = self.outcome(operation).toolpath.moved(-zero), None
        if job.cell_of(job.setup(operation.setup)) is not None:
            made = self.arm_way(operation)
            path, way = made.path, made.course
        return PostedOperation(
            operation.number, operation.name, job.tool(operation.tool), job.rpm(operation), path,
            operation.params.tolerance_mm, way,
        )  # fmt: skip

    def programs(self, setup: Setup) -> list[Posted]:
        """The posted programs of a setup."""
        return unpack_programs(self._program_node(setup).made(self.store))

    def proof_key(self, setup: Setup) -> str:
        return self._proof_node(setup, silent).key

    def _proof_node(self, setup: Setup, progress: Progress) -> Node:
        inputs = {
            "code": PROOF_CODE,
            "program": self.program_key(setup),
            "stock": self.first_stock_key(setup),
            "part": self.solid_key,
            "makes": setup.makes,
            "grid": setup.grid,
            "fixtures": setup.fixtures,
            "place": [setup.table_below_mm, setup.on_table_mm],
            "tools": [self.job.tool(o.tool) for o in self.job.route(setup)],
            "machine": self.job.machine_of(setup),
            "settings": self.job.proof,
            "tolerances": self._tolerances(setup),
        }

        def make() -> bytes:
            proof = prove(self.proof_inputs(setup), progress)
            for number, stock in proof.run.stocks:
                self.store.put(_proof_stock_key(node.key, number), "stock", stock.to_bytes())
            return pack_proof(proof, self.zero(setup))

        node = Node("proof", PROOF_VERSION, inputs, make)
        return node

    def proof(self, setup: Setup, progress: Progress = silent) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
        """What the programs of a setup do: a summary as JSON, and the chart's columns.

        The stock after each operation is kept under `proof_stock`.
        """
        return unpack(self._proof_node(setup, progress).made(self.store))

    def proof_inputs(self, setup: Setup) -> ProofInputs:
        controller = self.controller(setup)
        programs = in_order(controller, self.programs(setup))
        tool_of = {o.number: o.tool for o in self.job.route(setup)}
        return ProofInputs(
            stock=self.first_stock(setup),
            part=self.part_distances(setup),
            controller=controller,
            programs=programs,
            tools={t.number: t for t in self.job.tools},
            tolerances=self._tolerances(setup),
            first_tools=[tool_of[p.operations[0]] for p in programs],
            machine=self.job.machine_of(setup),
            zero=self.zero(setup),
            settings=self.job.proof,
            fixtures=self.placing(setup).fixture_mesh(),
            on_table=setup.on_table_mm,
            at=self.clamped(setup).at if self.job.machine_of(setup).turns else (0.0, 0.0, 0.0),
            table=self.placing(setup).known_table,
            left_out=[f for o in self.job.route(setup) for f in self.left_out(o)],
            failed={o.number: why for o in self.job.route(setup) if (why := self.failure(o))},
            loads={o.number: self.loads(o)[1] for o in self.job.route(setup)},
        )

    def proof_stock(self, setup: Setup, number: int | None) -> Stock:
        """The stock of the proof after an operation; before the first one for None."""
        if number is None:
            return self.first_stock(setup)
        data = self.store.get(_proof_stock_key(self.proof_key(setup), number))
        if data is None:
            raise fail("proof", "has not been run yet.", "Run the proof first.")
        return Stock.from_bytes(data)

    def compute(
        self, setup: Setup, numbers: set[int] | None = None, with_proof: bool = True, progress: Progress = silent
    ) -> dict[int, Outcome]:
        """Compute what is missing of a setup: paths of the given (or all) operations, and the proof.

        Returns:
            Of these operations those that cannot be computed, by number; the others go on without them.
        """
        failed: dict[int, Outcome] = {}
        route = [o for o in self.job.route(setup) if numbers is None or o.number in numbers]
        share = 0.75 if with_proof else 1.0
        for k, operation in enumerate(route):
            step = part_of(progress, share * k / len(route), share * (k + 1) / len(route))
            outcome = self.outcome(operation, lambda f, w, s=step, n=operation.number: s(0.7 * f, f"{n}: {w}"))  # type: ignore[misc]
            if outcome.failed:
                failed[operation.number] = outcome
            elif self.job.cell_of(setup) is not None:
                self.arm_way(operation, lambda f, w, s=step, n=operation.number: s(0.7 + 0.2 * f, f"{n}: {w}"))  # type: ignore[misc]
            self.stock_after(operation, lambda f, w, s=step, n=operation.number: s(0.7 + 0.3 * f, f"{n}: {w}"))  # type: ignore[misc]
        if with_proof:
            self.proof(setup, part_of(progress, share, 1.0))
        progress(1.0, "done")
        return failed

    def controller(self, setup: Setup) -> Controller:
        controllers = load_controllers()
        if setup.dialect not in controllers:
            raise fail(
                f"setups.{setup.id}.dialect",
                "is not a controller that Fenrik knows.",
                f"Choose one of {', '.join(controllers)}.",
                setup.dialect,
            )
        found = controllers[setup.dialect]
        if self.job.machine_of(setup).by_joints != found.drives_arms:
            fitting = [name for name, c in controllers.items() if c.drives_arms != found.drives_arms]
            what = "drives arms, and the machine is none." if found.drives_arms else "drives no arms."
            raise fail(f"setups.{setup.id}.dialect", what, f"Choose one of {', '.join(fitting)}.", setup.dialect)
        return found

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
        return {o.number: self._tolerance(o) for o in self.job.route(setup)}


def _proof_stock_key(proof_key: str, number: int) -> str:
    return key_of("proof stock", PROOF_VERSION, proof=proof_key, after=number)
