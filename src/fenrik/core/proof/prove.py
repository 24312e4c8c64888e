"""Run the posted programs of a setup: remove material, watch the holder, compare with the part."""

from __future__ import annotations

from dataclasses import dataclass

from fenrik.core.findings import Finding, as_causes
from fenrik.core.progress import Progress, part_of, silent
from fenrik.core.proof.checks import CHECKS, gouges
from fenrik.core.proof.cutting import run_programs
from fenrik.core.proof.deviation import Deviation, OperationResult, compared, deviation_of, results_of
from fenrik.core.proof.run import Run
from fenrik.core.proof.scene import ProofInputs


@dataclass(frozen=True)
class Proof:
    """What the programs of a setup do.

    Attributes:
        run: the motions as read back, and what each did.
        findings: sorted by time.
        deviation: the cut stock against the part.
        by_operation: worst gouge, worst excess and peak engagement for each operation.
    """

    run: Run
    findings: list[Finding]
    deviation: Deviation
    by_operation: dict[int, OperationResult]


def prove(inputs: ProofInputs, progress: Progress = silent) -> Proof:
    """Read the programs back, cut the stock with them, and check everything that can be checked.

    Raises:
        FenrikError: when a program cannot be read back, or uses a tool that the job does not have.
    """
    run = run_programs(inputs, part_of(progress, 0.0, 0.8))
    progress(0.82, "checking")
    findings = [finding for check in CHECKS for finding in check(run)]
    progress(0.9, "comparing with the part")
    surface = compared(run)
    findings += gouges.check(run, surface)
    findings = as_causes(findings)
    findings.sort(key=lambda f: (f.time_s or 0.0, f.kind))
    progress(1.0, "done")
    return Proof(run, findings, deviation_of(run, surface), results_of(run, surface))
