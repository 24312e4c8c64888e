"""Artefacts in their order: stock 0 → (path → stock) for each operation → programs → proof.

Every artefact is a node: its key is made of what its maker gets and the version of its algorithm, so that a change
makes out of date exactly what depends on it.
"""

from __future__ import annotations

import weakref
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from fenrik.core.artefacts import pack_programs, pack_proof, unpack_programs
from fenrik.core.build.geometry import Geometry
from fenrik.core.build.given import TOOL_SHAPE, given_of, safe_over
from fenrik.core.build.node import Node
from fenrik.core.build.picks import absolute_params
from fenrik.core.copies import COPIES_VERSION, MirrorCopies, copied, joined_copies, where_stock_lets
from fenrik.core.errors import FenrikError, Problem, fail
from fenrik.core.findings import Unreached
from fenrik.core.job import Job, Operation, Setup
from fenrik.core.kernels import kernels_behind
from fenrik.core.keys import key_of
from fenrik.core.packing import pack, unpack
from fenrik.core.posting import Controller, Posted, PostedOperation, load_controllers, post_programs
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof import ProofInputs, prove
from fenrik.core.proof.audit import Surroundings, audited
from fenrik.core.setups.stocks import EarlierStock
from fenrik.core.stock import Stock, cut
from fenrik.core.stock.shaping import upright
from fenrik.core.strategies.common import Outcome
from fenrik.core.strategies.given import Given, Item
from fenrik.core.strategies.registry import STRATEGIES, StrategyParams, run_strategy
from fenrik.core.toolpath import Toolpath
from fenrik.core.tools import Assembly, cutting_profile

STOCK_VERSION, AUDIT_VERSION, PROGRAM_VERSION, PROOF_VERSION = 6, 12, 8, 20
FORM = 4
"""How a path and what is told with it are packed and kept."""
FLATTEN_MM = 0.002
LINK_TIMES = 1.5
STOCK_CODE, AUDIT_CODE, PROGRAM_CODE, PROOF_CODE = (
    kernels_behind(f"fenrik.core.{name}") for name in ("stock.cut", "proof.audit", "posting.writing", "proof.prove")
)
"""Sources of the kernels behind these artefacts; keys change with them."""


@dataclass(frozen=True)
class _Link:
    """One operation in its chain: its path, and the key of the stock after it."""

    path: Node
    given: Given
    stock: str


class Build(Geometry):
    """All artefacts of one job over its geometry. Keys are cheap; anything else is computed on demand."""

    _recent: tuple[str, Stock] | None = None
    """The stock that was asked for last, with its key: strategy, audit and the next row ask for the same."""

    @cached_property
    def _chains(self) -> dict[str, list[_Link]]:
        return {}

    @cached_property
    def _routes(self) -> dict[str, tuple[list[Operation], dict[int, int]]]:
        return {}

    def with_job(self, job: Job) -> Build:
        """Another document over the same model, files and store; what stays the same is not worked out anew."""
        made = Build(job, self.model, self.store, self.cell_given, self.files)
        made.take_over(self)
        return made

    def route(self, setup: Setup) -> tuple[list[Operation], dict[int, int]]:
        """The rows of a setup in the order they run, and the place of each by its number."""
        if setup.id not in self._routes:
            rows = self.job.route(setup)
            self._routes[setup.id] = rows, {o.number: k for k, o in enumerate(rows)}
        return self._routes[setup.id]

    # Chains of paths and stocks

    def _place_of(self, operation: Operation) -> int:
        """How many operations run before one in its setup; for one that is off, all of them."""
        rows, places = self.route(self.job.setup(operation.setup))
        return places.get(operation.number, len(rows))

    def _links(self, setup: Setup, count: int) -> list[_Link]:
        """The first operations of a setup, each worked out once, from the first on."""
        links = self._chains.get(setup.id, [])
        if len(links) < count:
            # A list of its own, put in place whole: several requests may ask one build at the same time.
            links = list(links)
            route, _ = self.route(setup)
            before = links[-1].stock if links else self.first_stock_key(setup)
            for operation in route[len(links) : count]:
                links.append(self._link(operation, before))
                before = links[-1].stock
            self._chains[setup.id] = links
        return links

    def _link(self, operation: Operation, before: str) -> _Link:
        # The makers know their build only while it lives: builds of a thousand rows would else hold one another in
        # circles, and finding those stops the server for a second.
        own = weakref.proxy(self)
        given = given_of(own, operation, Item(before, lambda: own.stock_seen(operation)))
        path = self._audited_node(operation, before, self._path_node(operation, given, own), given, own)
        return _Link(path, given, self._stock_after_key(operation, path.key))

    def _stock_after_key(self, operation: Operation, path: str) -> str:
        cutter = self.job.tool(operation.tool).cutter
        return key_of("stock", STOCK_VERSION, code=STOCK_CODE, path=path, cutter=cutter)

    def _path_node(self, operation: Operation, given: Given, own: Build) -> Node:
        """An operation's path: made from what its strategy named, its parameters, and its copies."""
        strategy, params = STRATEGIES[operation.params.strategy], absolute_params(self, operation)
        inputs = {"code": [strategy.code, FORM], "given": given.key, "params": params}
        if operation.copies is not None:
            zero = np.round(self.zero(self.job.setup(operation.setup)), 9).tolist()
            inputs["copies"] = [COPIES_VERSION, operation.copies, zero]

        def make() -> bytes:
            try:
                outcome = run_strategy(given, params)
                if operation.copies is not None:
                    outcome = own._copied(outcome, operation, given, params)
            except FenrikError as error:
                # One row that cannot be computed is a failed row, and no more: the others go on without it.
                outcome = Outcome(Toolpath.empty(), failed=error.problems)
            finally:
                given.forget()
            return _packed(outcome)

        return Node("path", strategy.version, inputs, make, kept_as="motions")

    def _audited_node(self, operation: Operation, before: str, motions: Node, given: Given, own: Build) -> Node:
        """An operation's path as it may be shown: what its strategy made, without what must not be in it.

        With it comes the stock that it leaves. Of the part it goes out of date with what the strategy sees of it; the
        proof goes with all of it.
        """
        setup, tool = self.job.setup(operation.setup), self.job.tool(operation.tool)
        feeds = self.job.feeds(operation)
        inputs = {
            "code": AUDIT_CODE,
            "motions": motions.key,
            "before": before,
            "tool": {name: getattr(tool, name) for name in TOOL_SHAPE},
            "around": [setup.fixtures, np.round(self.placing(setup).stock, 9).tolist(), setup.grid],
            "tolerance": self._tolerance(operation),
            "feeds": [feeds.entry, feeds.cutting, self._link_feed(operation)],
            "safe": setup.retract_mm,
        }

        def make() -> bytes:
            progress = given.progress
            given.progress = part_of(progress, 0.0, 0.7)
            outcome = _unpacked(motions.made(own.store))
            found = audited(outcome.toolpath, own._surroundings(operation), part_of(progress, 0.7, 1.0))
            data = _packed(Outcome(found.path, [*outcome.unreached, *found.told], outcome.failed))
            after = own._stock_after_key(operation, node.key)
            own.store.put(after, "stock", found.stock.to_bytes())
            own._recent = after, found.stock
            if outcome.failed:
                own.store.put(_failure_key(node.key), "failure", outcome.why.encode())
            return data

        node = Node("path", AUDIT_VERSION, inputs, make)
        return node

    def _surroundings(self, operation: Operation) -> Surroundings:
        setup = self.job.setup(operation.setup)
        return Surroundings(
            stock=self.stock_before(operation),
            seen=lambda: self.stock_seen(operation),
            part=self.part_distances(setup) if self.job.part else None,
            tool=self.job.tool(operation.tool),
            tolerance_mm=self._tolerance(operation),
            safe_mm=safe_over(self, setup, None) + setup.retract_mm,
            entry_feed=self.job.feeds(operation).entry,
            link_feed=self._link_feed(operation),
            cutting_feed=self.job.feeds(operation).cutting,
            fixtures=self.placing(setup).fixture_mesh(),
        )

    def _link_feed(self, operation: Operation) -> float | None:
        """Feed of ways in air, faster than that of cuts where the machine lets it; None for what keeps its passes."""
        strategy = STRATEGIES[operation.params.strategy]
        if not strategy.skims or strategy.finishes(operation.params):
            return None
        feeds = self.job.feeds(operation)
        most = self.job.machine_of(self.job.setup(operation.setup)).max_feed_mm_min
        return max(feeds.exit, min(LINK_TIMES * feeds.cutting, most))

    def link_of(self, operation: Operation) -> _Link:
        """An operation in its chain; one that is off as if it came last."""
        index, setup = self._place_of(operation), self.job.setup(operation.setup)
        route, _ = self.route(setup)
        if index < len(route) and route[index] is operation:
            return self._links(setup, index + 1)[index]
        return self._link(operation, self.key_before(operation))

    def key_before(self, operation: Operation) -> str:
        """Key of the stock before an operation."""
        setup = self.job.setup(operation.setup)
        index = self._place_of(operation)
        return self._links(setup, index)[index - 1].stock if index else self.first_stock_key(setup)

    def path_key(self, operation: Operation) -> str:
        return self.link_of(operation).path.key

    def stock_key(self, operation: Operation) -> str:
        """Key of the stock after an operation."""
        return self.link_of(operation).stock

    def path(self, operation: Operation, progress: Progress = silent) -> Outcome:
        """The path of an operation in the setup's frame, and what it could not reach.

        Raises:
            FenrikError: where the operation cannot be computed.
        """
        outcome = self.outcome(operation, progress)
        if outcome.failed:
            raise FenrikError(*outcome.failed)
        return outcome

    def outcome(self, operation: Operation, progress: Progress = silent) -> Outcome:
        """The same, also where it cannot be computed: then the path is empty, and why is told."""
        link = self.link_of(operation)
        link.given.progress = progress
        return _unpacked(link.path.made(self.store))

    def failure_key(self, operation: Operation) -> str:
        """Key of the reason why an operation could not be computed: there where it could not."""
        return _failure_key(self.path_key(operation))

    def failure(self, operation: Operation) -> str:
        """Why an operation whose path was made could not be computed; empty where it could."""
        return (self.store.get(self.failure_key(operation)) or b"").decode()

    def _copied(self, outcome: Outcome, operation: Operation, given: Given, params: StrategyParams) -> Outcome:
        """An outcome with the copies that its operation asks for."""
        copies, other = operation.copies, outcome.toolpath
        assert copies is not None
        if isinstance(copies, MirrorCopies) and copies.keep_climb and hasattr(params, "milling"):
            turned = "conventional" if params.milling == "climb" else "climb"
            other = run_strategy(given, params.model_copy(update={"milling": turned})).toolpath
        paths = copied(outcome.toolpath, other, copies, self.zero(self.job.setup(operation.setup)))
        original = not isinstance(copies, MirrorCopies) or copies.original
        kept, told = where_stock_lets(paths, original, given.stock, cutting_profile(given.cutter))
        return Outcome(joined_copies(kept), [*outcome.unreached, *told])

    # Stocks

    def first_stock_key(self, setup: Setup) -> str:
        return self._first_stock_node(setup).key

    def _first_stock_node(self, setup: Setup) -> Node:
        placing = self.placing(setup)
        inputs = {"code": STOCK_CODE, **placing.stock_inputs(self._last_stock_key)}
        return Node(
            "stock 0", STOCK_VERSION, inputs, lambda: placing.make_stock(self._last_stock).to_bytes(), kept_as="stock"
        )

    def _last_stock_key(self, setup_id: str) -> str:
        setup = self.job.setup(setup_id)
        count = len(self.route(setup)[0])
        return self._links(setup, count)[count - 1].stock if count else self.first_stock_key(setup)

    def first_stock(self, setup: Setup) -> Stock:
        return Stock.from_bytes(self._first_stock_node(setup).made(self.store))

    def has_first_stock(self, setup: Setup) -> bool:
        """Whether the first stock of a setup can be had without computing a path."""
        earlier = setup.stock
        return not isinstance(earlier, EarlierStock) or self.store.get(self._last_stock_key(earlier.setup)) is not None

    def _last_stock(self, setup_id: str) -> Stock:
        setup = self.job.setup(setup_id)
        route, _ = self.route(setup)
        return self.stock_after(route[-1]) if route else self.first_stock(setup)

    def stock_before(self, operation: Operation) -> Stock:
        setup = self.job.setup(operation.setup)
        index = self._place_of(operation)
        return self.stock_after(self.route(setup)[0][index - 1]) if index else self.first_stock(setup)

    def stock_seen(self, operation: Operation) -> Stock:
        """The stock before an operation as its strategy sees it: upright in the setup's frame.

        One that leans is made upright once for a setup, and cut on from there.
        """
        stock = self.stock_before(operation)
        if not stock.leans:
            return stock
        setup = self.job.setup(operation.setup)
        rows = self.route(setup)[0][: self._place_of(operation)]
        keys = [_seen_key(k) for k in (self.first_stock_key(setup), *(o.stock for o in self._links(setup, len(rows))))]
        made = next((k for k in range(len(rows), -1, -1) if self.store.get(keys[k]) is not None), -1)
        if made < 0:
            self.store.put(keys[0], "stock", upright(self.first_stock(setup)).to_bytes())
            made = 0
        seen = Stock.from_bytes(self.store.get(keys[made]) or b"")
        for k in range(made, len(rows)):
            seen = self._cut_on(seen, rows[k], self.outcome(rows[k]).toolpath)
            self.store.put(keys[k + 1], "stock", seen.to_bytes())
        return seen

    def _cut_on(self, stock: Stock, operation: Operation, path: Toolpath, progress: Progress = silent) -> Stock:
        """The stock after a row's path, from the one before it."""
        cutter = Assembly(cutting_profile(self.job.tool(operation.tool).cutter))
        return cut(stock, path.poses(FLATTEN_MM), cutter, 0, progress)[0]

    def has_stock_before(self, operation: Operation) -> bool:
        """Whether the stock before an operation is there already."""
        return self.store.get(self.key_before(operation)) is not None

    def stock_after(self, operation: Operation, progress: Progress = silent) -> Stock:
        """The stock after an operation, cut with the paths of all that are missing before it and its own."""
        setup = self.job.setup(operation.setup)
        rows = self.route(setup)[0][: self._place_of(operation) + 1]
        links = self._links(setup, len(rows))
        kept = next((k for k in range(len(rows) - 1, -1, -1) if self.store.get(links[k].stock) is not None), -1)
        if kept == len(rows) - 1:
            key, recent = links[kept].stock, self._recent
            if recent is None or recent[0] != key:
                recent = self._recent = key, Stock.from_bytes(self.store.get(key) or b"")
            return recent[1]
        stock = self.stock_after(rows[kept]) if kept >= 0 else self.first_stock(setup)
        for k in range(kept + 1, len(rows)):
            path = self.outcome(rows[k]).toolpath  # which may leave the stock as well
            made = self.store.get(links[k].stock)
            if made is not None:
                stock = Stock.from_bytes(made)
                continue
            stock = self._cut_on(stock, rows[k], path, progress if k == len(rows) - 1 else silent)
            self.store.put(links[k].stock, "stock", stock.to_bytes())
        return stock

    # Programs and proof

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
            }
            for o in self.job.route(setup)
        ]
        lengths = [self.job.tool(o.tool).assembly_mm for o in self.job.route(setup)]
        inputs = {
            "code": PROGRAM_CODE,
            "rows": rows,
            "controller": controller.document,
            "joints": [machine.all_joints(), lengths] if controller.speaks_joints else None,
            "name": name,
            "offset": setup.work_offset,
            "zero": np.round(zero, 9).tolist(),
        }

        def make() -> bytes:
            posted = [
                PostedOperation(
                    o.number, o.name, self.job.tool(o.tool), self.job.rpm(o), self.outcome(o).toolpath.moved(-zero)
                )
                for o in self.job.route(setup)
            ]
            return pack_programs(post_programs(controller, machine, posted, name, setup.work_offset))

        return Node("program", PROGRAM_VERSION, inputs, make)

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
        programs = self.programs(setup)
        tool_of = {o.number: o.tool for o in self.job.route(setup)}
        return ProofInputs(
            stock=self.first_stock(setup),
            part=self.part_distances(setup),
            controller=self.controller(setup),
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
            failed={o.number: why for o in self.job.route(setup) if (why := self.failure(o))},
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
            self.stock_after(operation, lambda f, w, s=step, n=operation.number: s(0.7 + 0.3 * f, f"{n}: {w}"))  # type: ignore[misc]
        if with_proof:
            self.proof(setup, part_of(progress, share, 1.0))
        progress(1.0, "done")
        return failed

    # Small things derived from the document

    def controller(self, setup: Setup) -> Controller:
        controllers = load_controllers()
        if setup.dialect not in controllers:
            raise fail(
                f"setups.{setup.id}.dialect",
                "is not a controller that Fenrik knows.",
                f"Choose one of {', '.join(controllers)}.",
                setup.dialect,
            )
        return controllers[setup.dialect]

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

    def _tolerance(self, operation: Operation) -> float:
        """How far an operation may enter the model: its tolerance, and what it goes in on purpose."""
        params, cutter = operation.params, self.job.tool(operation.tool).cutter
        return float(params.tolerance_mm + STRATEGIES[params.strategy].meant_depth_mm(params, cutter))


def _failure_key(path_key: str) -> str:
    return key_of("failure", FORM, path=path_key)


def _seen_key(stock_key: str) -> str:
    return key_of("stock seen", STOCK_VERSION, code=STOCK_CODE, stock=stock_key)


def _proof_stock_key(proof_key: str, number: int) -> str:
    return key_of("proof stock", PROOF_VERSION, proof=proof_key, after=number)


def _packed(outcome: Outcome) -> bytes:
    columns = {k: getattr(outcome.toolpath, k) for k in Toolpath.__dataclass_fields__}
    told = {
        "unreached": [u.model_dump() for u in outcome.unreached],
        "failed": [p.as_dict() | {"value": p.value and str(p.value)} for p in outcome.failed],
    }
    return pack(told, **columns)


def _unpacked(data: bytes) -> Outcome:
    told, arrays = unpack(data)
    unreached = [Unreached.model_validate(u) for u in told["unreached"]]
    return Outcome(Toolpath(**arrays), unreached, [Problem(**p) for p in told["failed"]])
