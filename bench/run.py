"""All benchmarks, each printed as a ratio to the reference run beside it: `python bench/run.py [name …]`.

Kernels are compiled before the clock starts, as `./start` does for the user.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import arms
import crowd
import cuts
import faults
import hostile
import leaning
import load
import outside
import parts
import prismatic
import road
import roughing
import rows
import sizes
import stopping
import tabs
import viewport
from common import address, show, timed

ROOT = Path(__file__).parents[1]


def terrain(nx: int = 190, size: tuple[float, float] = (110.0, 90.0)):  # type: ignore[no-untyped-def]
    from fenrik.core.solids.model import Mesh

    x, y = np.meshgrid(np.linspace(0, size[0], nx), np.linspace(0, size[1], nx), indexing="ij")
    z = 8 * np.sin(x / 9) * np.cos(y / 7) + 0.5 * np.sin(x * 1.3)
    corner = (np.arange(nx - 1)[:, None] * nx + np.arange(nx - 1)).ravel()
    triangles = np.concatenate(
        [
            np.column_stack([corner, corner + nx, corner + 1]),
            np.column_stack([corner + nx, corner + nx + 1, corner + 1]),
        ]
    ).astype(np.int32)
    return Mesh(np.stack([x, y, z], -1).reshape(-1, 3), triangles, np.zeros(len(triangles), np.int32))


def drop() -> None:
    """Tip heights against one Embree ray for each grid point, building both indices included."""
    import trimesh

    from fenrik.core.contact import DropIndex, tip_heights_grid
    from fenrik.core.tools.profile import bull_nose_profile

    mesh = terrain()
    x, y = np.arange(0, 110, 0.25), np.arange(0, 90, 0.25)
    profile = bull_nose_profile(5, 5, 20)
    tip_heights_grid(DropIndex.build(mesh, profile), x[:4], y[:4])
    ours = timed(lambda: tip_heights_grid(DropIndex.build(mesh, profile), x, y))
    gx, gy = np.meshgrid(x, y, indexing="ij")
    origins = np.column_stack([gx.ravel(), gy.ravel(), np.full(gx.size, 100.0)])
    directions = np.tile([0, 0, -1.0], (gx.size, 1))

    def rays() -> None:
        from trimesh.ray.ray_pyembree import RayMeshIntersector

        general = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
        RayMeshIntersector(general).intersects_first(origins, directions)

    reference = timed(rays)
    show(
        "tip heights",
        ours / reference,
        "at most 2.0",
        f"{len(mesh.triangles)} triangles, {gx.size} points: {ours:.3f} s, Embree {reference:.3f} s",
    )


def posting() -> None:
    """A million motions posted and read back, against a plain formatted loop writing the same lines."""
    from fenrik.core.machines import Machine
    from fenrik.core.posting import PostedOperation, load_controllers, post_programs, read_program
    from fenrik.core.toolpath import Toolpath
    from fenrik.core.tools import FlatCutter, Tool

    n = 1_000_000
    points = np.cumsum(np.random.default_rng(0).normal(size=(n, 3)), axis=0) * 0.1
    path = Toolpath.plain(points, np.zeros(n, np.int8), np.zeros((n, 3)), np.full(n, 3, np.int8), np.full(n, 1000.0))
    tool = Tool(number=1, cutter=FlatCutter(diameter_mm=8, flute_length_mm=20), stick_out_mm=30)
    controller = load_controllers()["Plain ISO"]
    operation = [PostedOperation(10, "bench", tool, 8000, path)]
    program = post_programs(controller, Machine(name="bench"), operation, "bench", 54)[0]
    post = timed(lambda: post_programs(controller, Machine(name="bench"), operation, "bench", 54))
    read_program(program.text)
    read = timed(lambda: read_program(program.text))

    def plain() -> None:
        with tempfile.TemporaryFile("w") as file:
            for x, y, z in points.tolist():
                file.write(f"X{x:.3f} Y{y:.3f} Z{z:.3f}\n")

    reference = timed(plain)
    show("posting", post / reference, "at most 3", f"{post:.2f} s, plain loop {reference:.2f} s, {program.lines} lines")
    show("reading back", read / reference, "at most 3", f"{read:.2f} s")


def many_faces(path: Path) -> int:
    """A plate of about 300 faces with holes, written as STEP."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    from fenrik.demo.modelling import write_step

    shape = BRepPrimAPI_MakeBox(160.0, 130.0, 15.0).Shape()
    for i in range(14):
        for j in range(11):
            x, y = 10 + i * 10.5, 10 + j * 11.0
            tool = (
                BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, 5), gp_Dir(0, 0, 1)), 3.0, 20.0).Shape()
                if (i + j) % 2
                else BRepPrimAPI_MakeSphere(gp_Pnt(x, y, 17), 4.0).Shape()
            )
            shape = BRepAlgoAPI_Cut(shape, tool).Shape()
    write_step(shape, path)
    from fenrik.core.solids.describe import list_faces

    return len(list_faces(shape))


def picture() -> None:
    """A STEP of about 300 faces from dropped file to the geometry in the browser's hands, against reading and meshing alone.

    Needs the server (`./start`) at FENRIK_ADDRESS, default http://127.0.0.1:8040.
    """
    import httpx
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.STEPControl import STEPControl_Reader

    from fenrik.core.solids.tessellate import ANGULAR_DEFLECTION_RAD, MESHER_SHARE

    with tempfile.TemporaryDirectory() as folder, httpx.Client(base_url=address(), timeout=120) as client:
        path = Path(folder) / "plate.step"
        faces = many_faces(path)

        def alone() -> None:
            reader = STEPControl_Reader()
            reader.ReadFile(str(path))
            reader.TransferRoots()
            BRepMesh_IncrementalMesh(reader.OneShape(), 206 * 5e-4 * MESHER_SHARE, False, ANGULAR_DEFLECTION_RAD, True)

        def dropped() -> None:
            job = client.post("/api/jobs", json={"name": "bench"}).json()["id"]
            client.put(f"/api/jobs/{job}/part", files={"file": path.open("rb")}).raise_for_status()
            client.get(f"/api/jobs/{job}/part/geometry").raise_for_status()
            client.get(f"/api/jobs/{job}/part").raise_for_status()
            client.delete(f"/api/jobs/{job}")

        alone(), dropped()
        reference, ours = timed(alone, 5), timed(dropped, 5)
        show(
            "dropped file to picture",
            ours / reference,
            "at most 2",
            f"{faces} faces: {ours:.2f} s, Open CASCADE alone {reference:.2f} s",
        )


def fields() -> None:
    """Requests that change a field of the demo job; needs the server."""
    import httpx

    url = f"{address()}/api/jobs/lantern-bracket"
    times = []
    with httpx.Client(timeout=30) as client:
        for k in range(60):
            body = {
                "label": "bench",
                "changes": [{"path": "operations/30/params/direction_deg", "value": k % 7, "check": False}],
            }
            began = time.perf_counter()
            client.patch(url, json=body).raise_for_status()
            times.append(time.perf_counter() - began)
        for _ in range(60):
            client.post(f"{url}/undo").raise_for_status()
        began = time.perf_counter()
        client.get(f"{url}/status").raise_for_status()
        status = time.perf_counter() - began
        began = time.perf_counter()
        client.get(f"{address()}/api/health").raise_for_status()
        health = time.perf_counter() - began
    worst = sorted(times)[int(0.95 * len(times)) - 1]
    show(
        "changing a field",
        worst / max(health, 1e-9),
        "95 % under 100 ms",
        f"95 % under {1000 * worst:.0f} ms, status {1000 * status:.0f} ms; reference: health {1000 * health:.1f} ms",
    )


def memory() -> None:
    """Peak memory of planning each demo job, as the command line does it: computed, proven, posted, written."""
    import json

    from fenrik.demo.jobs import write_demo

    empty = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder))
        for job in sorted(Path(folder).glob("*.json")):
            out = Path(folder) / job.stem
            command = [sys.executable, "-m", "fenrik.cli", "plan", str(job), "--out", str(out)]
            subprocess.run(command, capture_output=True, check=False)
            report = json.loads((out / "report.json").read_text())
            peak = report["peak_memory_mb"]
            show(
                f"memory, {job.stem}",
                peak / empty,
                "under 700 MB",
                f"{peak:.0f} MB, {report['seconds']:.0f} s; this process: {empty:.0f} MB",
            )


BENCHES = (
    {f.__name__: f for f in (drop, posting, memory, picture, fields)}
    | arms.BENCHES
    | crowd.BENCHES
    | cuts.BENCHES
    | faults.BENCHES
    | hostile.BENCHES
    | leaning.BENCHES
    | roughing.BENCHES
    | load.BENCHES
    | outside.BENCHES
    | parts.BENCHES
    | prismatic.BENCHES
    | sizes.BENCHES
    | stopping.BENCHES
    | road.BENCHES
    | rows.BENCHES
    | tabs.BENCHES
    | viewport.BENCHES
)

if __name__ == "__main__":
    for name in sys.argv[1:] or BENCHES:
        BENCHES[name]()
