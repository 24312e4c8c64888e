"""Benchmarks of what comes before the first cut: recognising, picking, importing."""

from __future__ import annotations

import statistics
import sys
import tempfile
from pathlib import Path

import numpy as np

from common import address, show, timed
from fenrik.demo.plate import bench_plate


def features() -> None:
    """Recognising everything on the plate in all directions, against measuring its faces and edges by `GProp` alone."""
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    from fenrik.core.recognise import recognise
    from fenrik.core.solids.describe import list_edges, list_faces
    from fenrik.core.solids.reading import solid_from_shape

    shape = bench_plate()
    solid = solid_from_shape(shape)
    recognise(solid)

    def reference() -> None:
        for face in list_faces(shape):
            BRepGProp.SurfaceProperties_s(face, GProp_GProps())
        for edge in list_edges(shape):
            BRepGProp.LinearProperties_s(edge, GProp_GProps())

    found = recognise(solid)
    ours, alone = timed(lambda: recognise(solid)), timed(reference)
    show(
        "recognising features",
        ours / alone,
        "under 2 s",
        f"{len(found.holes)} holes, {len(found.pockets)} pockets, {len(solid.faces)} faces: {ours:.2f} s, GProp {alone:.2f} s",
    )


def import_step() -> None:
    """A STEP of about 50 MB from bytes to a solid with tables and triangles, against Open CASCADE's reader alone."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf, gp_Vec
    from OCP.STEPControl import STEPControl_Reader

    from fenrik.core.solids import read_solid
    from fenrik.core.solids.xcaf import NamedShape, write_step

    plate = bench_plate()
    shapes = []
    for k in range(36):
        trsf = gp_Trsf()
        trsf.SetTranslation(gp_Vec(0, 0, 60.0 * k))
        shapes.append(NamedShape(BRepBuilderAPI_Transform(plate, trsf, True).Shape(), f"Plate {k + 1}"))
    data = write_step(shapes)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "large.step"
        path.write_bytes(data)

        def alone() -> None:
            reader = STEPControl_Reader()
            reader.ReadFile(str(path))
            reader.TransferRoots()
            reader.OneShape()

        reference, ours = timed(alone, 1), timed(lambda: read_solid(data, "large.step"), 1)
    show(
        "import of a large STEP",
        ours / reference,
        "at most 2",
        f"{len(data) / 2**20:.0f} MB: {ours:.1f} s, reader {reference:.1f} s",
    )


def import_stl() -> None:
    """An STL of two million triangles to a welded solid with faces, against trimesh reading and merging alone."""
    import io

    import trimesh

    from fenrik.core.solids import read_solid

    mesh = trimesh.creation.icosphere(subdivisions=8, radius=40)
    rough = trimesh.creation.icosphere(subdivisions=8, radius=30)
    rough.apply_translation([100, 0, 0])
    grid = trimesh.util.concatenate([mesh, rough])
    data = grid.export(file_type="stl")
    read_solid(trimesh.creation.box().export(file_type="stl"), "warm.stl")
    ours = timed(lambda: read_solid(data, "large.stl"), 3)
    reference = timed(lambda: trimesh.load(io.BytesIO(data), file_type="stl"), 3)
    show(
        "import of a large STL",
        ours / reference,
        "at most 2",
        f"{len(grid.faces)} triangles: {ours:.1f} s, trimesh {reference:.1f} s",
    )


def hover() -> None:
    """What a hover costs on a part of 300 000 triangles in the browser, from the event to the painted colours.

    Needs the server (`./start`); the reference is a plain look through all triangles in the same browser.
    """
    import httpx
    import trimesh
    from playwright.sync_api import sync_playwright

    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from app_fixtures import ARGUMENTS

    ball = trimesh.creation.icosphere(subdivisions=7, radius=30)
    points = ball.vertices + 0.3 * np.sin(ball.vertices[:, [1, 2, 0]])
    data = trimesh.Trimesh(points, ball.faces).export(file_type="stl")
    with httpx.Client(base_url=address(), timeout=120) as client:
        job = client.post("/api/jobs", json={"name": "bench"}).json()["id"]
        client.put(f"/api/jobs/{job}/part", files={"file": ("ball.stl", data)}).raise_for_status()
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(f"{address()}/jobs/{job}/part")
            page.wait_for_timeout(6000)
            view = page.locator("canvas").first.bounding_box()
            assert view is not None
            for k in range(40):
                page.mouse.move(view["x"] + view["width"] * (0.4 + 0.005 * k), view["y"] + view["height"] * 0.5)
                page.wait_for_timeout(120)
            ours = page.evaluate("performance.getEntriesByName('fenrik hover').map(e => e.duration)")
            plain = page.evaluate(
                """n => { const p = new Float32Array(9 * n).map(Math.random), t = performance.now(); let hits = 0;
                for (let i = 0; i < p.length; i += 9) { const ux = p[i+3]-p[i], uy = p[i+4]-p[i+1], vx = p[i+6]-p[i], vy = p[i+7]-p[i+1];
                const d = ux*vy-uy*vx, a = ((0.5-p[i])*vy-(0.5-p[i+1])*vx)/d, b = (ux*(0.5-p[i+1])-uy*(0.5-p[i]))/d; if (a>=0&&b>=0&&a+b<=1) hits++; }
                return performance.now() - t; }""",
                len(ball.faces),
            )
            browser.close()
        client.delete(f"/api/jobs/{job}")
    worst = sorted(ours)[int(0.95 * len(ours)) - 1]
    show(
        "hover",
        worst / plain,
        "under 30 ms",
        f"{len(ball.faces)} triangles: median {statistics.median(ours):.1f} ms, 95 % under {worst:.1f} ms of {len(ours)}; plain look {plain:.1f} ms",
    )


BENCHES = {f.__name__: f for f in (features, import_step, import_stl, hover)}
