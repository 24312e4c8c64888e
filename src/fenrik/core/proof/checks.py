"""The single checks of a proof, each giving findings."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from fenrik.core.findings import Finding, Severity
from fenrik.core.frames import Points
from fenrik.core.machines import Machine
from fenrik.core.proof.motions import ProgramMotions
from fenrik.core.stock import CutRecord
from fenrik.core.toolpath import ORIENTED, Kind
from fenrik.core.tools import Tool

if TYPE_CHECKING:
    from fenrik.core.proof.run import ProofInputs

MAX_FINDINGS_OF_A_KIND = 50
CLUSTER_MM = 5.0
CONTACT_MM = 1e-6
BINS = 61


class Deviation(BaseModel):
    """The cut stock's surface against the part, signed: above 0 material is left, below 0 it was cut too deep."""

    min_mm: float
    max_mm: float
    within_tolerance_fraction: float
    error_bound_mm: float
    cell_mm: float
    edges_mm: list[float]
    counts: list[int]


class OperationResult(BaseModel):
    """What the surfaces that an operation made show."""

    worst_gouge_mm: float
    worst_excess_mm: float
    peak_engagement_deg: float


def summarise(distance: Points, band: float, bound: float, cell: float) -> Deviation:
    """Extremes, share in the band, and a histogram over ±5 bands (the outer bins take what lies beyond)."""
    edges = np.linspace(-5 * band, 5 * band, BINS + 1)
    counts, _ = np.histogram(np.clip(distance, edges[0], edges[-1]), edges)
    inside = float(np.mean(np.abs(distance) <= band))
    return Deviation(
        min_mm=float(distance.min()),
        max_mm=float(distance.max()),
        within_tolerance_fraction=inside,
        error_bound_mm=bound,
        cell_mm=cell,
        edges_mm=edges.tolist(),
        counts=counts.tolist(),
    )


def check_machine(
    motions: ProgramMotions,
    tools: dict[int, Tool],
    machine: Machine,
    zero: Points,
    on_table: tuple[float, float] | None = None,
) -> list[Finding]:
    """Reach, tool length and spindle speed against the machine."""
    found = []
    if len(motions.path) == 0:
        return []
    span = np.ptp(motions.path.point, axis=0)
    for axis, need, has in zip("XYZ", span, machine.travel_mm, strict=True):
        if need > has:
            found.append(
                Finding(
                    kind="overtravel",
                    severity="fault",
                    amount=float(need - has),
                    bodies=[machine.name],
                    message=f"The program needs {need:.0f} mm along {axis}; {machine.name} has {has:.0f} mm.",
                    advice="Turn the part, or choose a larger machine.",
                )
            )
    if on_table is not None:
        found += _check_travel(motions.path.point - zero, machine, on_table)
    for number in np.unique(motions.tool):
        tool = tools[int(number)]
        if tool.assembly_mm > machine.longest_tool_mm:
            found.append(
                Finding(
                    kind="tool too long",
                    severity="fault",
                    bodies=[f"tool {number}"],
                    amount=tool.assembly_mm - machine.longest_tool_mm,
                    message=f"Tool {number} is {tool.assembly_mm:.0f} mm long; {machine.name} takes "
                    f"{machine.longest_tool_mm:.0f} mm.",
                    advice="Shorten stick-out or holder.",
                )
            )
        fastest = float(motions.rpm[motions.tool == number].max(initial=0.0))
        if fastest > machine.spindle_max_rpm:
            found.append(
                Finding(
                    kind="spindle speed",
                    severity="fault",
                    bodies=[f"tool {number}"],
                    unit="rpm",
                    amount=fastest - machine.spindle_max_rpm,
                    message=f"Tool {number} runs at {fastest:.0f} rpm; {machine.name} reaches "
                    f"{machine.spindle_max_rpm:.0f}.",
                    advice="Lower the spindle speed.",
                )
            )
    return found


def _check_travel(work: Points, machine: Machine, on_table: tuple[float, float]) -> list[Finding]:
    """Whether the table reaches every place where the part lies on it; X and Y travel evenly about its middle."""
    found = []
    for axis in (0, 1):
        along = work[:, axis] + on_table[axis]
        beyond = float(np.abs(along).max()) - machine.travel_mm[axis] / 2
        if beyond > 0 and float(np.ptp(along)) <= machine.travel_mm[axis]:
            row = int(np.abs(along).argmax())
            found.append(
                Finding(
                    kind="overtravel",
                    severity="fault",
                    amount=beyond,
                    bodies=[machine.name],
                    motion=row,
                    place=(float(work[row, 0]), float(work[row, 1]), float(work[row, 2])),
                    message=f"Where the part lies on the table, {'XY'[axis]} runs {beyond:.0f} mm past its end.",
                    advice="Move the part on the table.",
                )
            )
    return found


def check_rapids(
    motions: ProgramMotions, rows: NDArray, removed: Points, times: Points, inputs: ProofInputs
) -> list[Finding]:
    """Rapids that took material with them."""
    bad = rows[np.isin(motions.path.kind[rows], [Kind.RAPID, Kind.RETRACT])]
    return _taken(
        motions,
        bad,
        removed,
        times,
        inputs,
        kind="rapid in stock",
        message="The cutter goes through {:.2f} mm³ of stock at rapid.",
        advice="Raise the retract height, or check the start height of this operation.",
    )


def check_stopped(
    motions: ProgramMotions, rows: NDArray, removed: Points, times: Points, inputs: ProofInputs
) -> list[Finding]:
    """Feed motions that took material while the spindle stood still."""
    path = motions.path
    bad = rows[np.isin(path.spindle[rows], [0, ORIENTED]) & (path.feed[rows] > 0)]
    return _taken(
        motions,
        bad,
        removed,
        times,
        inputs,
        kind="spindle stopped",
        message="The tool goes into {:.2f} mm³ of stock while the spindle stands still.",
        advice="Start the spindle before this motion.",
    )


def _taken(
    motions: ProgramMotions,
    rows: NDArray,
    removed: Points,
    times: Points,
    inputs: ProofInputs,
    kind: str,
    message: str,
    advice: str,
) -> list[Finding]:
    """A finding for each run of motions that took material and should not; the volume goes into the message."""
    bad = rows[removed[rows] > 1e-3 * inputs.stock.lattice.cell_mm**2]
    return [
        finding_at(
            motions,
            run[removed[run].argmax()],
            times,
            inputs.zero,
            kind=kind,
            severity="fault",
            amount=float(removed[run].sum()),
            unit="mm³",
            count=len(run),
            bodies=["cutter", "stock"],
            message=message.format(removed[run].sum()),
            advice=advice,
        )
        for run in runs_of(bad)[:MAX_FINDINGS_OF_A_KIND]
    ]


def check_table(motions: ProgramMotions, times: Points, inputs: ProofInputs) -> list[Finding]:
    """The deepest motion under the top of the table."""
    if inputs.table is None or len(motions.path) == 0:
        return []
    under = inputs.table - motions.path.point[:, 2]
    row = int(under.argmax())
    if under[row] <= CONTACT_MM:
        return []
    return [
        finding_at(
            motions,
            row,
            times,
            inputs.zero,
            kind="table contact",
            severity="fault",
            amount=float(under[row]),
            count=int(np.count_nonzero(under > CONTACT_MM)),
            bodies=["cutter", "table"],
            message=f"The tip goes {under[row]:.2f} mm into the table.",
            advice="Set the part higher, or go less deep below it.",
        )
    ]


def check_contact(
    motions: ProgramMotions,
    source: NDArray[np.int64],
    record: CutRecord,
    watched: list[str],
    times: Points,
    inputs: ProofInputs,
) -> list[Finding]:
    """Shank or holder touching the stock, and near misses of the holder."""
    found = []
    touched = np.zeros(len(source), bool)
    for name in ("neck", "shank", "holder", "near miss"):
        columns = [k for k, w in enumerate(watched) if w == name]
        if not columns:
            continue
        depth = record.touch_mm[:, columns].max(axis=1)
        bad = (depth > 1e-6) & ~touched
        touched |= bad
        severity: Severity = "attention" if name == "near miss" else "fault"
        for run in runs_of(np.flatnonzero(bad))[:MAX_FINDINGS_OF_A_KIND]:
            worst = run[depth[run].argmax()]
            column = columns[int(record.touch_mm[worst][columns].argmax())]
            place = record.touch_place[worst, column] - inputs.zero
            kind = name if name == "near miss" else f"{name} contact"
            text = (
                f"The holder comes closer than {inputs.settings.near_miss_mm:g} mm to the stock."
                if name == "near miss"
                else f"The {name} stands {depth[worst]:.2f} mm deep in the stock."
            )
            finding = finding_at(
                motions,
                int(source[worst]),
                times,
                inputs.zero,
                kind=kind,
                severity=severity,
                amount=float(depth[worst]),
                count=len(np.unique(source[run])),
                message=text,
                bodies=["holder" if name == "near miss" else name, "stock"],
                advice=f"Use at least {depth[worst] + 0.5:.1f} mm more stick-out, or a slimmer holder."
                if name not in ("neck", "shank")
                else f"Use a longer cutting length, or a {name} thinner than the cutter.",
            )
            found.append(finding.model_copy(update={"place": tuple(float(v) for v in place)}))
    return found


def near_depth(record: CutRecord, watched: list[str]) -> Points:
    """How far into its near-miss margin the holder came at each motion."""
    columns = [k for k, w in enumerate(watched) if w == "near miss"]
    if not columns:
        return np.zeros(len(record.removed_mm3))
    return record.touch_mm[:, columns].max(axis=1)


def gouge_findings(
    operation: int,
    places: Points,
    depth: Points,
    owners: NDArray[np.int64],
    motions: ProgramMotions,
    times: Points,
    tolerance: float,
) -> list[Finding]:
    """One finding for each cluster of places that were cut too deep, the deepest first."""
    found: list[Finding] = []
    seen: set[tuple[int, ...]] = set()
    for k in np.argsort(-depth, kind="stable"):
        cell = tuple(np.floor(places[k] / CLUSTER_MM).astype(int).tolist())
        if cell in seen:
            continue
        seen.add(cell)
        if len(found) >= MAX_FINDINGS_OF_A_KIND:
            break
        motion = int(owners[k])
        found.append(
            Finding(
                kind="gouge",
                severity="fault",
                operation=operation,
                motion=motion,
                line=int(motions.line[motion]),
                time_s=float(times[motion]),
                place=tuple(float(v) for v in places[k]),
                bodies=["cutter", "part"],
                amount=float(depth[k]),
                message=f"Cut {depth[k]:.3f} mm into the part; the operation's tolerance is {tolerance:g} mm.",
                advice="Check allowance, tolerance and heights of this operation.",
            )
        )
    return found


def unknown_findings(places: Points, of: int) -> list[Finding]:
    """Says how much of the cut surface cannot be told inside from outside, since the model is open there.

    Args:
        places: (n, 3) such places of the cut surface. of: how many places were looked at.
    """
    if len(places) == 0:
        return []
    share = 100 * len(places) / of
    x, y, z = places[0].tolist()
    return [
        Finding(
            kind="deviation unknown",
            severity="attention",
            place=(x, y, z),
            amount=share,
            unit="%",
            count=len(places),
            bodies=["part", "stock"],
            message=f"The model is open: for {share:.2g} % of the cut surface nobody can say whether it is gouged.",
            advice="Close the model where it was made, or look at these places yourself.",
        )
    ]


def runs_of(index: NDArray) -> list[NDArray]:
    """Stretches of numbers in a row."""
    if len(index) == 0:
        return []
    return np.split(index, np.flatnonzero(np.diff(index) > 1) + 1)


def finding_at(motions: ProgramMotions, motion: int, times: Points, zero: Points, **rest) -> Finding:  # type: ignore[no-untyped-def]
    place = motions.path.point[motion] - zero
    return Finding(
        operation=int(motions.operation[motion]),
        motion=int(motion),
        line=int(motions.line[motion]),
        time_s=float(times[motion]),
        place=tuple(float(v) for v in place),
        **rest,
    )
