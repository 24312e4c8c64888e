"""An order of the rows of a setup with fewer tool changes, that breaks nothing that must come before something."""

from __future__ import annotations

from itertools import pairwise

from pydantic import BaseModel

from fenrik.core.job import Job, Operation, Setup
from fenrik.core.keys import key_of
from fenrik.core.strategies.picked import TargetParams
from fenrik.core.strategies.registry import STRATEGIES

CLEARED, CONTOURED, MARKED = 2, 3, 6
"""Stages of strategies that this order speaks of."""


class Reordering(BaseModel):
    """A proposed order: numbers of the rows, tool changes before and after, and the seconds that it saves."""

    order: list[int]
    changes_before: int
    changes_after: int
    saves_s: float


def propose_order(job: Job, setup: Setup) -> Reordering:
    """Rows of one tool are drawn together where nothing that must come first is overtaken.

    The tool that the setup before left in the spindle of the same machine goes on first where it may, or the one with
    which the next setup begins goes on last, whichever saves more changes; both ends are counted.
    """
    rows = job.route(setup)
    held, wanted = _neighbours(job, setup)
    first = {
        o.number: {a.number for k, a in enumerate(rows) if k < i and _must_precede(a, o)} for i, o in enumerate(rows)
    }
    after = {o.number: {b.number for b in rows if o.number in first[b.number]} for o in rows}
    found = [rows, _drawn_together(rows, first, held), _drawn_together(rows[::-1], after, wanted)[::-1]]
    changes = [_changes(order, held, wanted) for order in found]
    best = changes.index(min(changes))
    seconds = job.machine_of(setup).tool_change_s * (changes[0] - changes[best])
    return Reordering(
        order=[o.number for o in found[best]],
        changes_before=changes[0],
        changes_after=changes[best],
        saves_s=seconds,
    )


def _drawn_together(rows: list[Operation], before: dict[int, set[int]], held: int | None) -> list[Operation]:
    """Greedy: stay with the tool as long as one of its rows may run, else take the row that has waited longest.

    Args:
        before: for each row, those that must have run. held: the tool to begin with.
    """
    done: list[Operation] = []
    waiting = list(rows)
    while waiting:
        ready = [o for o in waiting if before[o.number] <= {d.number for d in done}]
        tool = done[-1].tool if done else held
        same = [o for o in ready if o.tool == tool]
        chosen = (same or ready)[0]
        done.append(chosen)
        waiting.remove(chosen)
    return done


def _neighbours(job: Job, setup: Setup) -> tuple[int | None, int | None]:
    """The tools with which the setups before end and those after begin, on this one's machine; None where none does."""
    at = next(k for k, s in enumerate(job.setups) if s.id == setup.id)
    before, after = (
        [o.tool for s in some if s.machine == setup.machine for o in job.route(s)]
        for some in (job.setups[:at], job.setups[at + 1 :])
    )
    return (before[-1] if before else None), (after[0] if after else None)


def _changes(rows: list[Operation], held: int | None, wanted: int | None) -> int:
    tools = [held, *(o.tool for o in rows), *([] if wanted is None else [wanted])]
    return sum(a != b for a, b in pairwise(tools))


def _must_precede(first: Operation, second: Operation) -> bool:
    """Whether two rows that stand in this order must stay in it."""
    if first.instance is not None and second.instance is not None and first.instance != second.instance:
        return False
    a, b = (STRATEGIES[o.params.strategy] for o in (first, second))
    if a.everywhere or b.everywhere:
        return True
    if a.for_holes and b.for_holes:
        return a.in_hole(first.params) != b.in_hole(second.params) and _share(first, second)
    if a.for_holes or b.for_holes:
        # A hole in the floor of a pocket waits for the pocket.
        return a.stage < CONTOURED or b.stage < CONTOURED
    return _share(first, second) or a.stage == b.stage == CLEARED or b.stage >= MARKED


def _share(first: Operation, second: Operation) -> bool:
    """Whether two rows are applied to some of the same geometry (by what their documents say)."""
    a, b = _named(first), _named(second)
    return a is None or b is None or bool(a & b)


def _named(operation: Operation) -> set[str] | None:
    """Keys of the faces, edges and sketches that a row names; None where it may touch anything."""
    params = operation.params
    if not isinstance(params, TargetParams) or not params.targets:
        return None
    names: set[str] = set()
    for target in params.targets:
        if target.kind == "outline" or (target.kind == "sharp edges" and not target.faces):
            return None
        if target.kind == "sketch":
            names.add(target.sketch)
            continue
        items = target.edges if target.kind == "edges" else target.faces
        if any("kind" not in i.model_dump() and "edge" not in i.model_dump() for i in items):
            return None
        names |= {key_of("picked", 1, item=i) for i in items}
    return names
