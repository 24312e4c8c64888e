"""The chain of a setup: stock 0 → (path → stock) for each operation.

Every artefact is a node: its key is made of what its maker gets and the version of its algorithm, so that a change
makes out of date exactly what depends on it.
"""

from __future__ import annotations

import weakref
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from fenrik.core.build.geometry import Geometry
from fenrik.core.build.given import TOOL_SHAPE, given_of, safe_over
from fenrik.core.build.node import Node
from fenrik.core.build.picks import absolute_params
from fenrik.core.copies import COPIES_VERSION, MirrorCopies, copied, joined_copies, where_stock_lets
from fenrik.core.errors import FenrikError, Problem, fail
from fenrik.core.findings import Unreached
from fenrik.core.job import Operation, Setup
from fenrik.core.keys import key_of
from fenrik.core.packing import pack, unpack
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof.audit import Surroundings, audited
from fenrik.core.proof.loads import Loads, LoadSummary, loads_of, summary_of
from fenrik.core.setups.stocks import EarlierStock
from fenrik.core.sources import kernels_behind
from fenrik.core.stock import Stock, cut
from fenrik.core.stock.shaping import boxed, upright
from fenrik.core.strategies.common import Outcome
from fenrik.core.strategies.given import Given, Item
from fenrik.core.strategies.read_in import ReadIn
from fenrik.core.strategies.registry import STRATEGIES, StrategyParams, run_strategy
from fenrik.core.toolpath import Toolpath
from fenrik.core.toolpath.cl_reading import Record, edited, read_cl
from fenrik.core.tools import Assembly, cutting_profile

STOCK_VERSION, AUDIT_VERSION = 7, 13
FORM = 5
"""How a path and what is told with it are packed and kept."""
FLATTEN_MM = 0.002
LINK_TIMES = 1.5
STOCK_CODE, AUDIT_CODE = (kernels_behind(f"fenrik.core.{name}") for name in ("stock.cut", "proof.audit"))
"""Sources of the kernels behind these artefacts; keys change with them."""


@dataclass(frozen=True)
class _Link:
    """One operation in its chain: its path, and the key of the stock after it."""

    path: Node
    given: Given
    stock: str


class Chain(Geometry):
    """Paths and stocks of one job over its geometry. Keys are cheap; anything else is computed on demand."""

    _recent: tuple[str, Stock] | None = None
    """The stock that was asked for last, with its key: strategy, audit and the next row ask for the same."""

    @cached_property
    def _chains(self) -> dict[str, list[_Link]]:
        return {}

    @cached_property
    def _routes(self) -> dict[str, tuple[list[Operation], dict[int, int]]]:
        return {}

    def route(self, setup: Setup) -> tuple[list[Operation], dict[int, int]]:
        """The rows of a setup in the order they run, and the place of each by its number."""
        if setup.id not in self._routes:
            rows = self.job.route(setup)
            self._routes[setup.id] = rows, {o.number: k for k, o in enumerate(rows)}
        return self._routes[setup.id]

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
        given = given_of(own, operation, Item(self._seen_by_key(operation, before), lambda: own._seen_by(operation)))
        path = self._audited_node(operation, before, self._path_node(operation, given, own), given, own)
        return _Link(path, given, self._stock_after_key(operation, path.key))

    def _stock_after_key(self, operation: Operation, path: str) -> str:
        cutter = self.job.tool(operation.tool).cutter
        return key_of("stock", STOCK_VERSION, code=STOCK_CODE, path=path, cutter=cutter)

    def _path_node(self, operation: Operation, given: Given, own: Chain) -> Node:
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

    def _audited_node(self, operation: Operation, before: str, motions: Node, given: Given, own: Chain) -> Node:
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
            told = {"cell_mm": found.stock.lattice.cell_mm}
            own.store.put(_load_key(node.key), "load", pack(told, took=found.took_mm3, engaged=found.engaged_deg))
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
            cutting_feed=self._asked_feed(operation),
            fixtures=self.placing(setup).fixture_mesh(),
        )

    def _asked_feed(self, operation: Operation) -> float | None:
        """Feed of straight cuts, by which arcs are fed; None where the strategy feeds them by the load."""
        by_load = STRATEGIES[operation.params.strategy].feeds_by_load
        return None if by_load else self.job.feeds(operation).cutting

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
        return self._key_after_rows(self.job.setup(operation.setup), self._place_of(operation))

    def path_key(self, operation: Operation) -> str:
        return self.link_of(operation).path.key

    def records_of(self, operation: Operation) -> list[Record]:
        """The records of a row's cutter location text, as it stands after its changes.

        Raises:
            FenrikError: where the row reads no text, or its file is not there.
        """
        params = operation.params
        if not isinstance(params, ReadIn):
            raise fail("operation", "reads no cutter location text.", "Choose a row that does.", operation.number)
        if not params.file:
            return []
        text = edited(self.file(params.file).decode("utf-8", "replace"), params.edits)
        return read_cl(text, "" if params.unit == "as told" else params.unit).records

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

    def loads(self, operation: Operation) -> tuple[Loads, LoadSummary]:
        """How hard each motion of a row's path works the cutter, and the same in few words.

        Raises:
            FenrikError: where they were not kept with the path.
        """
        path = self.outcome(operation).toolpath
        kept = self.store.get(_load_key(self.path_key(operation)))
        if kept is None:
            raise fail("load", "was not worked out with the path.", "Compute the row again.", operation.number)
        told, arrays = unpack(kept)
        cutter, rpm = self.job.tool(operation.tool).cutter, self.job.rpm(operation)
        loads = loads_of(path, arrays["took"], arrays["engaged"], told["cell_mm"], rpm, cutter.flutes)
        return loads, summary_of(path, loads, getattr(operation.params, "engagement_deg", None), cutter.radius_mm)

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
        inputs = {"code": STOCK_CODE, **placing.stock_inputs(self._left_key)}
        return Node(
            "stock 0", STOCK_VERSION, inputs, lambda: placing.make_stock(self._left).to_bytes(), kept_as="stock"
        )

    def _left_key(self, earlier: EarlierStock) -> str:
        setup = self.job.setup(earlier.setup)
        return self._key_after_rows(setup, self._rows_till(setup, earlier.after))

    def _rows_till(self, setup: Setup, number: int | None, *, with_it: bool = True) -> int:
        """How many rows of a setup have run after (or before) one, be it off or on; all of them for None."""
        there = [o for o in self.job.operations if o.setup == setup.id]
        place = next((k + with_it for k, o in enumerate(there) if o.number == number), len(there))
        return sum(o.enabled for o in there[:place])

    def first_stock(self, setup: Setup) -> Stock:
        return Stock.from_bytes(self._first_stock_node(setup).made(self.store))

    def has_first_stock(self, setup: Setup) -> bool:
        """Whether the first stock of a setup can be had without computing a path."""
        earlier = setup.stock
        return not isinstance(earlier, EarlierStock) or self.store.get(self._left_key(earlier)) is not None

    def stock_key_after(self, setup: Setup, number: int) -> str:
        """Key of the stock after a row of a setup, be it off or on; of the first for 0."""
        return self._key_after_rows(setup, self._rows_till(setup, number) if number else 0)

    def stock_after_row(self, setup: Setup, number: int) -> Stock:
        """That stock; what is missing before it is worked out."""
        return self._stock_after_rows(setup, self._rows_till(setup, number) if number else 0)

    def made_mm3(self, setup: Setup) -> float:
        """Volume of what a setup makes, all copies of it; 0 without a part."""
        placing = self.placing(setup)
        return placing.part.volume_mm3 * len(placing.instances) if self.job.part else 0.0

    def _left(self, earlier: EarlierStock) -> Stock:
        setup = self.job.setup(earlier.setup)
        return self._stock_after_rows(setup, self._rows_till(setup, earlier.after))

    def _stock_after_rows(self, setup: Setup, count: int) -> Stock:
        return self.stock_after(self.route(setup)[0][count - 1]) if count else self.first_stock(setup)

    def stock_before(self, operation: Operation) -> Stock:
        return self._stock_after_rows(self.job.setup(operation.setup), self._place_of(operation))

    def stock_seen(self, operation: Operation) -> Stock:
        """The stock before an operation as its strategy sees it: upright in the setup's frame.

        One that leans is made upright once for a setup, and cut on from there.
        """
        return self._upright_after(self.job.setup(operation.setup), self._place_of(operation))

    def _upright_after(self, setup: Setup, count: int) -> Stock:
        """The stock after the first rows of a setup, upright in its frame."""
        rows, stock = self.route(setup)[0][:count], self._stock_after_rows(setup, count)
        if not stock.leans:
            return stock
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

    def _seen_by_key(self, operation: Operation, before: str) -> Any:
        """Key of the stock that a row's path is made for.

        Args:
            before: key of the stock that is there.
        """
        sees, setup = operation.sees, self.job.setup(operation.setup)
        if sees.kind == "chain":
            return before
        if sees.row is not None:
            return self._key_after_rows(setup, self._rows_till(setup, sees.row, with_it=False))
        first = self.first_stock_key(setup)
        return first if sees.kind == "first stock" else ["box round", first]

    def _seen_by(self, operation: Operation) -> Stock:
        """The stock that a row's path is made for, upright in the setup's frame."""
        sees, setup = operation.sees, self.job.setup(operation.setup)
        if sees.kind == "chain":
            return self.stock_seen(operation)
        if sees.row is not None:
            return self._upright_after(setup, self._rows_till(setup, sees.row, with_it=False))
        first = self._upright_after(setup, 0)
        return first if sees.kind == "first stock" else boxed(first)

    def _key_after_rows(self, setup: Setup, count: int) -> str:
        return self._links(setup, count)[count - 1].stock if count else self.first_stock_key(setup)

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

    def _tolerance(self, operation: Operation) -> float:
        """How far an operation may enter the model: its tolerance, and what it goes in on purpose."""
        params, cutter = operation.params, self.job.tool(operation.tool).cutter
        return float(params.tolerance_mm + STRATEGIES[params.strategy].meant_depth_mm(params, cutter))


def _failure_key(path_key: str) -> str:
    return key_of("failure", FORM, path=path_key)


def _load_key(path_key: str) -> str:
    return key_of("load", FORM, path=path_key)


def _seen_key(stock_key: str) -> str:
    return key_of("stock seen", STOCK_VERSION, code=STOCK_CODE, stock=stock_key)


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
