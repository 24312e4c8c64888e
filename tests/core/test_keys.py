"""Keys of artefacts: nothing stale, nothing recomputed for nothing, and no end at a thousand rows."""

import ast
import copy
import json
import os
import shutil
import subprocess
import sys
import textwrap
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from prism import bore, faces, flat, job_for, with_targets

import fenrik.core
from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.sources import files_behind, imports_of, kernels_behind, stamp
from fenrik.core.store import MemoryStore
from fenrik.core.strategies.registry import STRATEGIES
from fenrik.core.toolpath import Kind

CLEAR = {"strategy": "level roughing", "stepdown_mm": 5, "stepover_mm": 5, "tolerance_mm": 0.3}
FINISH = {"strategy": "parallel finishing", "stepover_mm": 6, "tolerance_mm": 0.3}


@pytest.fixture(scope="module")
def build():
    """A small block with a step, so that a row takes a tenth of a second."""
    block = BRepPrimAPI_MakeBox(24.0, 20.0, 10.0).Shape()
    made = job_for(
        BRepAlgoAPI_Cut(block, BRepPrimAPI_MakeBox(gp_Pnt(12, 0, 6), 20.0, 30.0, 10.0).Shape()).Shape(),
        [(1, CLEAR), (2, FINISH)],
        {1: flat(10), 2: {"kind": "ball", "diameter_mm": 8}},
        stock={"kind": "box", "z_plus_mm": 2},
        cell_mm=2.0,
        machines=[{"name": "Mill"}],
    )
    document = json.loads(made.job.model_dump_json())
    document["setups"][0]["machine"] = "Mill"
    return made.with_job(parse_job(document))


def artefacts(build):
    setup = build.job.setups[0]
    rows = build.job.route(setup)
    return {
        **{f"path {o.number}": build.path_key(o) for o in rows},
        **{f"stock {o.number}": build.stock_key(o) for o in rows},
        "program": build.program_key(setup),
        "proof": build.proof_key(setup),
    }


def made_anew(build):
    """Makes artefacts of a job anew, each with what it needs."""
    setup = build.job.setups[0]
    fresh = Build(build.job, build.model, MemoryStore())
    row = {str(o.number): o for o in build.job.route(setup)}
    keys = artefacts(fresh)

    def of(name):
        kind, _, number = name.partition(" ")
        if kind == "path":
            fresh.path(row[number])
        elif kind == "stock":
            fresh.stock_after(row[number])
        elif kind == "program":
            fresh.programs(setup)
        else:
            fresh.proof(setup)
        return fresh.store[keys[name]]

    return of


def leaves(value, path=()):
    """Every number, text and switch of a document, with its place."""
    if isinstance(value, dict):
        for k, v in value.items():
            yield from leaves(v, (*path, k))
    elif isinstance(value, list):
        for k, v in enumerate(value):
            yield from leaves(v, (*path, k))
    else:
        yield path, value


def altered(document, path, value):
    """The document with one value changed a little; None where that makes no valid job."""
    other = copy.deepcopy(document)
    here = other
    for part in path[:-1]:
        here = here[part]
    if isinstance(value, bool):
        here[path[-1]] = not value
    elif isinstance(value, int | float):
        here[path[-1]] = value * 1.01 + 0.01 if isinstance(value, float) else value + 1
    elif isinstance(value, str):
        here[path[-1]] = value + "x"
    else:
        return None
    try:
        return parse_job(other)
    except FenrikError:
        return None


def test_every_field_changes_the_key_or_leaves_the_bytes(build):
    """Every number, text and switch of setup, tools, rows, machine and proof settings, one at a time."""
    document = json.loads(build.job.model_dump_json())
    before = artefacts(build)
    made = made_anew(build)
    reference = {name: made(name) for name in before}
    tried = 0
    for path, value in leaves(document):
        if path[0] not in ("setups", "tools", "operations", "machines", "proof", "load", "cell_mm"):
            continue
        job = altered(document, path, value)
        if job is None or path[-1] in ("number", "enabled", "instance"):
            continue
        other = build.with_job(job)
        try:
            after = artefacts(other)
        except FenrikError:  # a controller of another name, for example
            continue
        tried += 1
        made = made_anew(other)
        for name in [n for n in before if after[n] == before[n]]:
            assert made(name) == reference[name], (path, name)
    assert tried > 60


@pytest.mark.parametrize(
    ("change", "gone", "kept"),
    [
        (("setups", 0, "retract_mm"), ["path 10", "path 20"], []),
        (("setups", 0, "clearance_mm"), ["path 10", "path 20"], []),
        (("operations", 1, "params", "stepover_mm"), ["path 20", "program", "proof"], ["path 10", "stock 10"]),
        (("tools", 1, "entry_feed_mm_min"), ["path 20"], ["path 10", "stock 10"]),
        (("tools", 1, "cutter", "flutes"), [], ["path 10", "stock 10"]),
        (("tools", 0, "stick_out_mm"), ["path 10", "proof"], []),
        (("proof", "near_miss_mm"), ["proof"], ["path 10", "path 20", "program"]),
    ],
)
def test_what_goes_out_of_date_with_what(build, change, gone, kept):
    document = json.loads(build.job.model_dump_json())
    here = document
    for part in change[:-1]:
        here = here[part]
    here[change[-1]] = here[change[-1]] + 1
    before, after = artefacts(build), artefacts(build.with_job(parse_job(document)))
    assert {n: before[n] != after[n] for n in gone} == dict.fromkeys(gone, True)
    assert {n: before[n] == after[n] for n in kept} == dict.fromkeys(kept, True)


def changed(build, **fields):
    """The same job with fields of its setup or of its first tool changed."""
    document = json.loads(build.job.model_dump_json())
    for name, value in fields.items():
        here = document["tools"][0] if name in document["tools"][0] else document["setups"][0]
        here[name] = value
    return build.with_job(parse_job(document))


@pytest.fixture(scope="module")
def outline():
    """A contour that begins near a place, counted from the work zero."""
    params = {"strategy": "contour", "targets": [{"kind": "outline"}], "start": "near a place", "start_x_mm": 30}
    return job_for(BRepPrimAPI_MakeBox(40.0, 30.0, 10.0).Shape(), [(1, params)], {1: flat(6)}, cell_mm=2.0)


@pytest.mark.parametrize(
    "fields",
    [{"work_zero": {"kind": "box point", "of": "part", "at": [1, 1, 1]}}, {"stick_out_mm": 70.0}],
)
def test_work_zero_and_stick_out_are_in_the_key_of_what_is_given_them(outline, fields):
    other = changed(outline, **fields)
    assert other.path_key(other.job.operations[0]) != outline.path_key(outline.job.operations[0])


def test_a_contour_begins_near_its_place_wherever_the_zero_is(outline):
    other = changed(outline, work_zero={"kind": "box point", "of": "part", "at": [1, 1, 1]})
    paths = [b.path(b.job.operations[0]).toolpath for b in (outline, other)]
    assert abs(paths[0].point[0, 0] - paths[1].point[0, 0]) > 5


def test_a_row_on_another_copy_has_a_key_and_a_path_of_its_own():
    """The same row on the same part: only where the copy stands differs."""
    made = job_for(
        BRepPrimAPI_MakeBox(24.0, 20.0, 10.0).Shape(), [(1, FINISH)], {1: {"kind": "ball", "diameter_mm": 8}},
        stock={"kind": "box", "z_plus_mm": 2}, cell_mm=2.0,
    )  # fmt: skip
    document = json.loads(made.job.model_dump_json())
    document["setups"][0]["grid"] = {"columns": 2, "rows": 1, "pitch_x_mm": 60, "pitch_y_mm": 60}
    keys, middles = [], []
    for copy_ in (1, 2):
        document["operations"][0]["instance"] = copy_
        made = made.with_job(parse_job(document))
        row = made.job.operations[0]
        keys.append(made.path_key(row))
        path = made.path(row).toolpath
        middles.append(float(np.mean(path.point[path.kind == Kind.CUT][:, 0])))
    assert keys[0] != keys[1]
    assert middles[1] - middles[0] == pytest.approx(60, abs=0.01)


def test_a_far_counterbore_is_in_the_key_of_what_bores_it():
    """A counterbore that opens downwards cannot be seen from above; the bar works on it all the same."""

    def plate(diameter):
        block = BRepPrimAPI_MakeBox(60.0, 40.0, 20.0).Shape()
        for d, deep in ((10.0, 30.0), (diameter, 6.0)):
            axis = gp_Ax2(gp_Pnt(30, 20, -1), gp_Dir(0, 0, 1))
            block = BRepAlgoAPI_Cut(block, BRepPrimAPI_MakeCylinder(axis, d / 2, deep).Shape()).Shape()
        return block

    bar = {"kind": "back boring bar", "diameter_mm": 16, "bar_diameter_mm": 3.5, "flute_length_mm": 5}
    keys = []
    for diameter in (18.0, 16.4):
        build = job_for(plate(diameter), [(1, {"strategy": "back boring", "targets": []})], {1: bar})
        build = with_targets(build, 10, faces(build, bore(5)))
        keys.append(build.path_key(build.job.operations[0]))
    assert keys[0] != keys[1]


def test_a_thousand_rows_have_keys(build):
    document = json.loads(build.job.model_dump_json())
    document["operations"] = [
        {**document["operations"][k % 2], "number": 1 + k, "name": f"row {k}"} for k in range(1000)
    ]
    many = build.with_job(parse_job(document))
    setup = many.job.setups[0]
    assert len({many.path_key(o) for o in many.job.route(setup)}) == 1000
    assert len(many.proof_key(setup)) == 64


def test_keys_asked_for_by_many_at_once_are_the_same(build):
    document = json.loads(build.job.model_dump_json())
    document["operations"] = [{**document["operations"][k % 2], "number": 1 + k} for k in range(60)]
    job = parse_job(document)
    alone = build.with_job(job)
    expect = [alone.path_key(o) for o in job.operations]
    for _ in range(5):
        shared = build.with_job(job)
        with ThreadPoolExecutor(8) as pool:
            for keys in pool.map(lambda _, b=shared: [b.path_key(o) for o in job.operations], range(8)):
                assert keys == expect


@pytest.mark.parametrize("kind", ["kernel", "leaf"])
def test_an_edited_kernel_is_used_at_once(tmp_path, kind):
    """A kernel that calls another file's follows that file, though its own does not change."""
    package = tmp_path / "src/fenrik/core/part"
    package.mkdir(parents=True)
    core = Path(__file__).parents[2] / "src/fenrik/core"
    for folder in (tmp_path / "src/fenrik", tmp_path / "src/fenrik/core", package):
        (folder / "__init__.py").write_text("")
    for name in ("kernels.py", "sources.py"):
        shutil.copy(core / name, tmp_path / "src/fenrik/core" / name)
    lower, upper = package / "_lower_kernels.py", package / "_upper_kernels.py"
    head = "from fenrik.core.kernels import kernel\n"
    upper.write_text(
        head + "from fenrik.core.part._lower_kernels import two\n@kernel\ndef twice(x):\n    return two() * x\n"
    )
    program = textwrap.dedent(
        """
        from fenrik.core.sources import kernels_behind
        from fenrik.core.part._upper_kernels import twice
        print(twice(10), sum(twice.stats.cache_hits.values()), kernels_behind("fenrik.core.part._upper_kernels"))
        """
    )

    def run():
        environment = {**os.environ, "PYTHONPATH": str(tmp_path / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
        done = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, text=True, env=environment, check=True
        )
        return done.stdout.split()

    lower.write_text(f"from fenrik.core.kernels import {kind}\n@{kind}\ndef two():\n    return 2\n")
    first, again = run(), run()
    assert (first[0], first[1], again[0], again[1]) == ("20", "0", "20", "1")
    lower.write_text(f"from fenrik.core.kernels import {kind}\n@{kind}\ndef two():\n    return 3\n")
    changed = run()
    assert changed[0] == "30"
    assert changed[2] != again[2]


def test_the_code_behind_a_strategy_reaches_its_kernels():
    from pathlib import Path

    import fenrik.core.stock.field as field_module
    import fenrik.core.strategies.level_roughing as module

    behind = {p.name for p in files_behind(Path(module.__file__))}
    assert {"_cut_kernels.py", "_drop_kernels.py", "kernels.py"} <= behind
    assert len(stamp(Path(module.__file__))) == len(kernels_behind("fenrik.core.stock.cut")) == 64
    # What runs no kernel of contact does not go out of date with one.
    assert "_drop_kernels.py" not in {p.name for p in files_behind(Path(field_module.__file__))}
    assert all(len(s.code) == 64 for s in STRATEGIES.values())


def test_imports_are_found_as_the_parser_of_python_finds_them():
    root = Path(fenrik.core.__file__).parent
    for path in sorted(root.rglob("*.py")):
        names: list[str] = []
        for node in ast.walk(ast.parse(path.read_bytes())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("fenrik.core"):
                names += [node.module, *(f"{node.module}.{a.name}" for a in node.names)]
            elif isinstance(node, ast.Import):
                names += [a.name for a in node.names if a.name.startswith("fenrik.core")]
        bases = [root.parent.parent / name.replace(".", "/") for name in names]
        files = {p for base in bases for p in (base.with_suffix(".py"), base / "__init__.py") if p.is_file()}
        assert imports_of(path) == tuple(sorted(files)), path
