"""Large parts walked to the end: picture, facing, roughing, finishing, proof; time by phase and memory at its peak."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from common import show

TOOLS = [
    {"number": 1, "name": "Mill 40", "stick_out_mm": 140, "cutter": {"kind": "flat", "diameter_mm": 40, "flute_length_mm": 60}},
    {"number": 2, "name": "Ball 20", "stick_out_mm": 120, "cutter": {"kind": "ball", "diameter_mm": 20, "flute_length_mm": 60}},
]  # fmt: skip


def job_for(file: str, stepover_mm: float, cell_mm: float | None) -> dict[str, Any]:
    """Face, rough and finish the top of a part."""
    rows = [
        {"strategy": "facing", "stepover_percent": 60},
        {"strategy": "level roughing", "stepdown_mm": 8, "stepover_mm": 16, "allowance_mm": 0.5, "floor_allowance_mm": 0.5, "tolerance_mm": 0.05},
        {"strategy": "parallel finishing", "stepover_mm": stepover_mm, "tolerance_mm": 0.02},
    ]  # fmt: skip
    return {
        "name": "Cover",
        "part": {"file": file},
        "tools": TOOLS,
        **({"cell_mm": cell_mm} if cell_mm else {}),
        "setups": [{"id": "top", "stock": {"kind": "box", "z_plus_mm": 2}, "clearance_mm": 20, "retract_mm": 5}],
        "operations": [
            {"number": 10 * (k + 1), "setup": "top", "tool": 2 if k == 2 else 1, "params": row}
            for k, row in enumerate(rows)
        ],
    }


def walk(folder: str) -> None:
    """In a process of its own: the road to the end, its times as JSON on the last line."""
    import resource

    from fenrik.core.build import Build
    from fenrik.core.job_reading import parse_job
    from fenrik.core.store import MemoryStore

    job = parse_job(json.loads((Path(folder) / "job.json").read_text()))
    assert job.part is not None
    build = Build(job, (Path(folder) / job.part.file).read_bytes(), MemoryStore())
    setup, times, began = job.setups[0], {}, time.perf_counter()

    def passed(name: str) -> None:
        nonlocal began
        times[name] = time.perf_counter() - began
        began = time.perf_counter()

    _ = build.solid
    passed("read")
    for operation in job.operations:
        build.path(operation)
        passed(f"path {operation.number}")
        build.stock_after(operation)
        passed(f"stock {operation.number}")
    build.programs(setup)
    passed("posted")
    meta, _ = build.proof(setup)
    passed("proven")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    found = {f["kind"] for f in meta["findings"]}
    print(json.dumps({"times": times, "peak_mb": peak, "deviation": meta["deviation"], "findings": sorted(found)}))


def _walked(name: str, data: bytes, suffix: str, stepover_mm: float, cell_mm: float | None, bar: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / f"part{suffix}").write_bytes(data)
        (Path(folder) / "job.json").write_text(json.dumps(job_for(f"part{suffix}", stepover_mm, cell_mm)))
        out = subprocess.run(
            [sys.executable, __file__, folder], capture_output=True, text=True, check=False
        )  # a process of its own, so that the peak is its own
        if out.returncode:
            raise SystemExit(out.stderr[-3000:])
        told = json.loads(out.stdout.strip().splitlines()[-1])
    times = told["times"]
    spent = ", ".join(f"{k} {v:.1f}" for k, v in times.items())
    deviation = told["deviation"]
    show(
        name,
        sum(times.values()),
        bar,
        f"{told['peak_mb']:.0f} MB; s: {spent}; deviation {deviation['min_mm']:.3f} … {deviation['max_mm']:.3f} "
        f"± {deviation['error_bound_mm']:.4f} mm; findings: {', '.join(told['findings']) or 'none'}",
    )


def cover() -> None:
    """A cover of 320 mm with eight free-form faces, to the end, and its picture against Open CASCADE alone."""
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.BRepTools import BRepTools

    import shapes
    from common import timed
    from fenrik.core.solids.reading import VIEW_DEFLECTION, read_solid
    from fenrik.core.solids.tessellate import ANGULAR_DEFLECTION_RAD, MESHER_SHARE
    from fenrik.core.solids.xcaf import NamedShape, write_step

    shape = shapes.cover()
    data = write_step([NamedShape(shape, "Cover")])
    read_solid(data, "cover.step", 1.0)

    def alone() -> None:
        from OCP.STEPControl import STEPControl_Reader

        with tempfile.NamedTemporaryFile(suffix=".step") as file:
            file.write(data)
            file.flush()
            reader = STEPControl_Reader()
            reader.ReadFile(file.name)
            reader.TransferRoots()
        BRepTools.Clean_s(reader.OneShape())
        BRepMesh_IncrementalMesh(
            reader.OneShape(), 377 * VIEW_DEFLECTION * MESHER_SHARE, False, ANGULAR_DEFLECTION_RAD, True
        )

    reference, ours = timed(alone, 5), timed(lambda: read_solid(data, "cover.step", 1.0), 5)
    show("cover, picture", ours / reference, "at most 2", f"{ours:.2f} s, Open CASCADE {reference:.2f} s")
    _walked("cover 320 mm, to the end (s)", data, ".step", 1.5, None, "at most 90 s, under 1500 MB")


def large() -> None:
    """A free-form part of 1.2 m, and a mesh of two million triangles."""
    import shapes
    from fenrik.core.solids.xcaf import NamedShape, write_step

    data = write_step([NamedShape(shapes.cover(1200.0, 800.0), "Large cover")])
    _walked("free-form part of 1.2 m (s)", data, ".step", 6.0, None, "to the end, under 3000 MB")
    _walked("mesh of 2 million triangles (s)", _two_million(), ".stl", 2.0, None, "to the end, under 3000 MB")


def _two_million() -> bytes:
    """A closed binary STL: a block of 300 × 200 mm with a rippled top."""
    import shapes

    nx, ny = 1160, 860
    x, y = np.meshgrid(np.linspace(0, 300, nx), np.linspace(0, 200, ny), indexing="ij")
    top = np.stack([x, y, shapes.waves(x, y, 300.0)], -1)
    floor = np.stack([x, y, np.zeros_like(x)], -1)

    def quads(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray) -> np.ndarray:
        one = np.stack([a, b, c], -2).reshape(-1, 3, 3)
        return np.concatenate([one, np.stack([a, c, d], -2).reshape(-1, 3, 3)])

    def strip(upper: np.ndarray, lower: np.ndarray) -> np.ndarray:
        return quads(lower[:-1], lower[1:], upper[1:], upper[:-1])

    pieces = [
        quads(top[:-1, :-1], top[1:, :-1], top[1:, 1:], top[:-1, 1:]),
        strip(top[:, 0], floor[:, 0]),
        strip(top[-1, :], floor[-1, :]),
        strip(top[::-1, -1], floor[::-1, -1]),
        strip(top[0, ::-1], floor[0, ::-1]),
    ]
    rim = np.concatenate([floor[:-1, 0], floor[-1, :-1], floor[:0:-1, -1], floor[0, :0:-1]])
    middle = np.broadcast_to([150.0, 100.0, 0.0], rim.shape)
    pieces.append(np.stack([np.roll(rim, -1, 0), rim, middle], 1))
    corners = np.concatenate(pieces)
    record = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("rest", "<u2")])
    data = np.zeros(len(corners), record)
    data["corners"] = corners
    return bytes(80) + np.uint32(len(corners)).tobytes() + data.tobytes()


BENCHES = {f.__name__: f for f in (cover, large)}

if __name__ == "__main__":
    walk(sys.argv[1])
