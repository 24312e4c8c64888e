"""Neck, shank or holder touching the stock, and near misses of the holder."""

from __future__ import annotations

import numpy as np

from fenrik.core.findings import Finding, Severity
from fenrik.core.proof.checks.telling import CONTACT_MM, finding_at, runs_of
from fenrik.core.proof.cutting import FLATTEN_MM
from fenrik.core.proof.run import Group, Run

RUBBING = "neck", "shank"
RUB_MM = 2**0.5 * (CONTACT_MM + 2 * FLATTEN_MM)
"""A shank as wide as its cutter runs along walls at no distance: the way that cut the wall and the way along it are
rounded and laid out in chords, each; and the stock's rays see a depth at up to 45°."""


def check(run: Run) -> list[Finding]:
    """All groups; the innermost body that touches is told."""
    return [finding for group in run.groups for finding in _of_group(run, group)]


def _of_group(run: Run, group: Group) -> list[Finding]:
    source, record, watched = group.moves.poses.source, group.record, group.watched
    found = []
    touched = np.zeros(len(source), bool)
    for name in ("neck", "shank", "holder", "near miss"):
        columns = [k for k, w in enumerate(watched) if w == name]
        if not columns:
            continue
        depth = record.touch_mm[:, columns].max(axis=1)
        bad = (depth > (RUB_MM if name in RUBBING else CONTACT_MM)) & ~touched
        touched |= bad
        severity: Severity = "attention" if name == "near miss" else "fault"
        for stretch in runs_of(np.flatnonzero(bad)):
            worst = stretch[depth[stretch].argmax()]
            column = columns[int(record.touch_mm[worst][columns].argmax())]
            place = record.touch_place[worst, column] - run.inputs.zero
            text = (
                f"The holder comes closer than {run.inputs.settings.near_miss_mm:g} mm to the stock."
                if name == "near miss"
                else f"The {name} stands {depth[worst]:.2f} mm deep in the stock."
            )
            found.append(
                finding_at(
                    run,
                    int(source[worst]),
                    kind=name if name == "near miss" else f"{name} contact",
                    severity=severity,
                    amount=float(depth[worst]),
                    count=len(np.unique(source[stretch])),
                    message=text,
                    place=tuple(float(v) for v in place),
                    bodies=["holder" if name == "near miss" else name, "stock"],
                    advice=f"Use at least {depth[worst] + 0.5:.1f} mm more stick-out, or a slimmer holder."
                    if name not in RUBBING
                    else f"Use a longer cutting length, or a {name} thinner than the cutter.",
                )
            )
    return found
