"""How programs and proofs are kept as bytes."""

from __future__ import annotations

import numpy as np

from fenrik.core.frames import Points
from fenrik.core.packing import pack, unpack
from fenrik.core.posting import Posted
from fenrik.core.proof import Proof
from fenrik.core.toolpath import Toolpath


def pack_programs(programs: list[Posted]) -> bytes:
    meta = [{"name": p.name, "operations": p.operations, "radii_mm": p.radii_mm} for p in programs]
    arrays: dict[str, np.ndarray] = {}
    for k, p in enumerate(programs):
        arrays[f"text{k}"] = np.frombuffer(p.text, np.uint8)
        for j, (lines, path) in enumerate(zip(p.line_of_motion, p.paths, strict=True)):
            arrays[f"lines{k}.{j}"] = lines
            arrays |= {f"{c}{k}.{j}": getattr(path, c) for c in Toolpath.__dataclass_fields__}
    return pack(meta, **arrays)


def unpack_programs(data: bytes) -> list[Posted]:
    meta, arrays = unpack(data)
    programs = []
    for k, p in enumerate(meta):
        count = range(len(p["operations"]))
        paths = [Toolpath(**{c: arrays[f"{c}{k}.{j}"] for c in Toolpath.__dataclass_fields__}) for j in count]
        programs.append(
            Posted(
                p["name"],
                arrays[f"text{k}"].tobytes(),
                p["operations"],
                [arrays[f"lines{k}.{j}"] for j in count],
                paths,
                {int(d): float(r) for d, r in p["radii_mm"].items()},
            )
        )
    return programs


def pack_proof(proof: Proof, zero: Points) -> bytes:
    run = proof.run
    motions = run.motions
    meta = {
        "findings": [f.model_dump() for f in proof.findings],
        "deviation": proof.deviation.model_dump(),
        "by_operation": {str(k): v.model_dump() for k, v in proof.by_operation.items()},
        "program_vs_path_mm": float("inf") if motions.missing else motions.ends_apart_mm,
        "time_s": float(motions.seconds.sum()),
        "time_by_operation": {
            str(n): float(motions.seconds[motions.operation == n].sum())
            for n in dict.fromkeys(motions.operation.tolist())
        },
        "zero": zero.tolist(),
        "operations_in_order": list(dict.fromkeys(n for n, _ in run.stocks)),
    }
    path = motions.path
    return pack(
        meta,
        point=path.point,
        motion=path.motion,
        centre=path.centre,
        axis=path.axis,
        normal=path.normal,
        kind=path.kind,
        spindle=path.spindle,
        feed=path.feed,
        fresh=motions.fresh,
        operation=motions.operation,
        tool=motions.tool,
        program=motions.program,
        line=motions.line,
        seconds=motions.seconds,
        rpm=motions.rpm,
        joints=motions.joints,
        removed=run.removed_mm3,
        engagement=run.engagement_deg,
        clearance=run.clearance_mm,
    )
