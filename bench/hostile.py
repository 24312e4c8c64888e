"""Damaged and hostile files, documents, templates and programs: nothing falls over, nothing hangs, nobody else waits.

`python bench/run.py files documents templates programs`; `FENRIK_FILES` says how many files (5 000). On a cluster and a
server of its own.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import random
import statistics
import tempfile
import threading
import time
import zipfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import psutil

from cluster import Server, serving
from common import show

FILES = int(os.environ.get("FENRIK_FILES", "5000"))
DOCUMENTS, TEMPLATES, PROGRAMS = 1000, 1000, 2000
SENDERS = 3
MOST_MB = 2048
NUMBERS = (
    b"0",
    b"-1",
    b"1e308",
    b"-1e308",
    b"nan",
    b"inf",
    b"1e-300",
    b"99999999999999999999",
    b"#1",
    b"",
    b"1e9",
    b"()",
)
DRAWING = b"""<svg xmlns="http://www.w3.org/2000/svg" width="100mm" height="50mm" viewBox="0 0 100 50"><rect x="10" y="10"
 width="30" height="20"/><circle cx="70" cy="25" r="8"/><path d="M0 0 L10 0 A5 5 0 0 1 20 0 C 1 2 3 4 5 6 Q 1 2 3 4"/>
 <g id="a" transform="scale(2)"><ellipse cx="3" cy="4" rx="2" ry="1"/></g><use href="#a" x="3"/></svg>"""


def models() -> dict[str, bytes]:
    """A good file of every kind, by name."""
    import trimesh
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepTools import BRepTools
    from OCP.IGESControl import IGESControl_Writer

    from fenrik.core.solids import read_solid
    from fenrik.core.solids.writing import write_solid
    from fenrik.core.solids.xcaf import NamedShape, write_step
    from fenrik.core.tools import Tool
    from fenrik.core.tools.library import tools_to_csv, tools_to_json
    from fenrik.demo.modelling import box, cylinder
    from fenrik.demo.shop import SHOP_TOOLS

    shape = BRepAlgoAPI_Cut(box(0, 0, 0, 60, 40, 20), cylinder(20, 20, -1, 6, 30)).Shape()
    step = write_step([NamedShape(shape, "Block")])
    solid = read_solid(step, "a.step")
    found = {"a.step": step, "a.stl": write_solid(solid, ".stl"), "a.3mf": write_solid(solid, ".3mf"), "a.svg": DRAWING}
    mesh = trimesh.load(io.BytesIO(found["a.stl"]), file_type="stl")
    found["a.obj"] = mesh.export(file_type="obj").encode()
    found["text.stl"] = mesh.export(file_type="stl_ascii").encode()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a"
        BRepTools.Write_s(shape, str(path))
        found["a.brep"] = path.read_bytes()
        writer = IGESControl_Writer()
        writer.AddShape(shape)
        writer.Write(str(path))
        found["a.igs"] = path.read_bytes()
    found["a.dxf"] = _dxf()
    tools = [Tool.model_validate(t) for t in SHOP_TOOLS[:12]]
    found["tools.csv"], found["tools.json"] = tools_to_csv(tools).encode(), tools_to_json(tools).encode()
    document = {"name": "Hostile", "part": {"file": "a.step"}, "setups": [{"id": "s"}], "files": ["a.svg"]}
    found["job.json"] = json.dumps({k: document[k] for k in ("name", "setups")}).encode()
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in (("job.json", json.dumps(document).encode()), ("a.step", step), ("a.svg", DRAWING)):
            archive.writestr(name, data)
    found["job.zip"] = stream.getvalue()
    return found


def _dxf() -> bytes:
    import ezdxf

    document = ezdxf.new()
    block = document.blocks.new("inner")
    block.add_line((0, 0), (5, 5))
    block.add_circle((1, 1), 2)
    space = document.modelspace()
    space.add_lwpolyline([(0, 0, 0), (10, 0, 0.5), (10, 10, 0)], format="xyb", close=True)
    space.add_arc((0, 0), 5, 10, 100)
    space.add_ellipse((0, 0), (4, 0), 0.5)
    space.add_spline([(0, 0), (3, 5), (6, 0), (9, 3)])
    space.add_blockref("inner", (3, 3))
    stream = io.StringIO()
    document.write(stream)
    return stream.getvalue().encode()


def mangled(data: bytes, chance: random.Random) -> bytes:
    """The file with some damage: bytes, numbers, pieces lost, doubled, moved, cut off."""
    out = bytearray(data)
    for _ in range(chance.choice((1, 1, 2, 4, 16))):
        if not out:
            break
        a = chance.randrange(len(out))
        b = min(len(out), a + chance.choice((1, 4, 30, 400)))
        how = chance.randrange(7)
        if how == 0:
            out[a] = chance.randrange(256)
        elif how == 1:
            out[a:b] = bytes(chance.randrange(256) for _ in range(b - a))
        elif how == 2:
            del out[a:b]
        elif how == 3:
            out[a:a] = out[a:b] * chance.choice((1, 3, 50))
        elif how == 4:
            del out[a:]
        elif how == 5:
            end = a
            while end < len(out) and 48 <= out[end] <= 57:
                end += 1
            out[a : max(end, a + 1)] = chance.choice(NUMBERS)
        else:
            c = chance.randrange(len(out))
            out[c:c] = out[a:b]
    return bytes(out)


class _Watch:
    """The most memory that any process of a server has held."""

    def __init__(self, server: Server) -> None:
        self.server, self.most_mb = server, 0.0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, daemon=True)
        self._thread.start()

    def _look(self) -> None:
        while not self._over.wait(0.1):
            for process in [psutil.Process(self.server.process.pid), *self.server.family()]:
                with contextlib.suppress(psutil.Error):
                    self.most_mb = max(self.most_mb, process.memory_info().rss / 2**20)

    def close(self) -> None:
        self._over.set()
        self._thread.join()


@contextlib.contextmanager
def _server() -> Iterator[tuple[Server, _Watch]]:
    with serving("--no-demo", "--workers", "0") as (_, server):
        watch = _Watch(server)
        try:
            yield server, watch
        finally:
            watch.close()


def _send(client: httpx.Client, job: str, name: str, data: bytes) -> httpx.Response:
    """A file to where its kind is read."""
    file = {"file": (name, data)}
    if name.startswith("tools."):
        return client.post(f"/api/jobs/{job}/tools/import", files=file)
    if name.startswith("job."):
        return client.post("/api/jobs/import", files=file)
    if name.endswith((".svg", ".dxf")):
        return client.put(f"/api/jobs/{job}/files", files=file)
    return client.put(f"/api/jobs/{job}/part", files=file)


def files() -> None:
    """Fuzzed files over HTTP by some senders at a time, while another reads good ones without a pause."""
    good = models()
    with _server() as (server, watch):
        codes: Counter[int] = Counter()
        longest, wrong, beside, broken = 0.0, [], [], []
        lock = threading.Lock()
        over = threading.Event()
        numbers = iter(range(FILES))

        def new_job(client: httpx.Client) -> str:
            return str(client.post("/api/jobs", json={"name": "hostile"}).json()["id"])

        def sender() -> None:
            nonlocal longest
            with httpx.Client(base_url=server.address, timeout=300) as client:
                job = new_job(client)
                while True:
                    with lock:
                        k = next(numbers, None)
                    if k is None:
                        return
                    chance = random.Random(k)
                    name = sorted(good)[k % len(good)]
                    began = time.perf_counter()
                    try:
                        answer = _send(client, job, name, mangled(good[name], chance))
                        code = answer.status_code
                        if code < 300 and k % 5 == 0:
                            for path in ("status", "part", "part/geometry", "part/features"):
                                code = max(code, client.get(f"/api/jobs/{job}/{path}").status_code)
                    except httpx.HTTPError as error:
                        code = 599
                        wrong.append((k, name, type(error).__name__))
                    with lock:
                        codes[code] += 1
                        longest = max(longest, time.perf_counter() - began)
                        if code >= 500:
                            wrong.append((k, name, code))
                        if k % 100 == 99:
                            print(f"\r{k + 1} of {FILES}   ", end="", flush=True)

        def reader() -> None:
            with httpx.Client(base_url=server.address, timeout=300) as client:
                job = new_job(client)
                while not over.is_set():
                    began = time.perf_counter()
                    answer = client.put(f"/api/jobs/{job}/part", files={"file": ("good.step", good["a.step"])})
                    beside.append(time.perf_counter() - began)
                    if answer.status_code != 200:
                        broken.append(answer.text)
                    time.sleep(0.2)

        with httpx.Client(base_url=server.address, timeout=300) as client:
            job = new_job(client)
            alone = []
            for _ in range(5):
                began = time.perf_counter()
                client.put(f"/api/jobs/{job}/part", files={"file": ("good.step", good["a.step"])}).raise_for_status()
                alone.append(time.perf_counter() - began)
        threads = [threading.Thread(target=sender) for _ in range(SENDERS)]
        other = threading.Thread(target=reader)
        for one in (*threads, other):
            one.start()
        for one in threads:
            one.join()
        over.set()
        other.join()
        print()
        left = [p for p in server.family() if p.status() == psutil.STATUS_ZOMBIE]
    ratio = statistics.median(beside) / statistics.median(alone)
    show(
        "hostile files",
        ratio,
        "no 5xx, good ones at once",
        f"{FILES} files: {dict(sorted(codes.items()))}; longest {longest:.1f} s; most memory of a process "
        f"{watch.most_mb:.0f} MB (at most {MOST_MB}); {len(beside)} good ones beside them, {len(broken)} refused, "
        f"median {statistics.median(beside):.2f} s, worst {max(beside):.2f} s, alone {statistics.median(alone):.2f} s; "
        f"{len(left)} processes left",
    )
    assert not wrong, wrong[:10]
    assert not broken, broken[:3]
    assert watch.most_mb < MOST_MB


def _scrambled(value: Any, chance: random.Random, share: float) -> Any:
    """A document with a share of its values replaced by others that have no place there, or have one by their kind."""
    if isinstance(value, dict):
        found = {k: _scrambled(v, chance, share) for k, v in value.items()}
        if found and chance.random() < share:
            found.pop(chance.choice(list(found)))
        return found
    if isinstance(value, list):
        found_list = [_scrambled(v, chance, share) for v in value]
        return found_list * (3 if chance.random() < share / 2 else 1)
    if chance.random() >= share:
        return value
    if type(value) in (int, float) and chance.random() < 0.8:
        return type(value)(value * chance.choice((-1, 0, 0.001, 0.1, 0.9, 1.1, 10, 1000)))
    return chance.choice((None, -1, 0, 1e300, 1e-300, -1e9, "", "x" * 500, "\ud7ff", [], {}, True, 10**30, "../../x"))


def _leaves(value: Any) -> int:
    """How many values a document has."""
    parts = value.values() if isinstance(value, dict) else value if isinstance(value, list) else None
    return 1 if parts is None else sum(map(_leaves, parts))


LOOKS = [
    "status",
    "head",
    "first-setup",
    "coverage",
    "finish",
    "left-over/places",
    "measurements",
    "part",
    "part/health",
    "tools/differences",
    "releases",
    "export",
    "history",
]


def documents() -> None:
    """Demo documents with one to eight values replaced, imported, and looked at from all sides where they were let in."""
    from fenrik.demo import DEMO_JOBS, demo_job, demo_model

    codes: Counter[int] = Counter()
    longest, let_in, wrong = 0.0, 0, []
    with _server() as (server, watch), httpx.Client(base_url=server.address, timeout=300) as client:
        for k in range(DOCUMENTS):
            chance = random.Random(k)
            name = list(DEMO_JOBS)[k % len(DEMO_JOBS)]
            document = demo_job(name).model_dump(mode="json")
            document = _scrambled(document, chance, chance.choice((1, 2, 4, 8)) / _leaves(document))
            stream = io.BytesIO()
            with zipfile.ZipFile(stream, "w") as archive:
                archive.writestr("job.json", json.dumps(document))
                archive.writestr(demo_job(name).part.file, demo_model(name))  # type: ignore[union-attr]
            began = time.perf_counter()
            answer = client.post("/api/jobs/import", files={"file": ("j.zip", stream.getvalue())})
            seen = [answer.status_code]
            if answer.status_code == 201:
                job = answer.json()["id"]
                paths = list(LOOKS)
                for setup in answer.json()["document"]["setups"][:2]:
                    paths += [f"setups/{setup['id']}/{look}" for look in ("scene", "stock", "order", "route-proposal")]
                for row in chance.sample(rows := answer.json()["document"]["operations"], min(3, len(rows))):
                    paths += [f"operations/{row['number']}/heights", f"tools/{row['tool']}/speeds"]
                for path in paths:
                    code = client.get(f"/api/jobs/{job}/{path}").status_code
                    seen.append(code)
                    if code >= 500:
                        wrong.append((k, path, code))
                client.delete(f"/api/jobs/{job}")
            longest = max(longest, time.perf_counter() - began)
            codes.update(seen)
            let_in += answer.status_code == 201
            if answer.status_code >= 500:
                wrong.append((k, "import", answer.status_code))
    show(
        "hostile documents",
        float(len(wrong)),
        "no 5xx",
        f"{DOCUMENTS}, {let_in} let in: {dict(sorted(codes.items()))}; longest {longest:.1f} s; most memory {watch.most_mb:.0f} MB",
    )
    assert not wrong, wrong[:10]


PIECES = (
    "{{ tool.number }}",
    "{{ x }}",
    "{% if tool.name %}",
    "{% endif %}",
    "{% else %}",
    "{% for i in tool.name %}",
    "{% endfor %}",
    "{{ tool.name * 9999999 }}",
    "{{ 9**9**9 }}",
    "{{ ''.__class__ }}",
    "{{ tool|attr('x') }}",
    "{% macro a() %}{{ a() }}{% endmacro %}",
    "{{ a() }}",
    "{% set x = tool %}",
    "{{ 'a'.ljust(99999999) }}",
    "{{ '%0999999999d' % 1 }}",
    "{{ (((((((((1))))))))) }}",
    "{{ tool.name ~ tool.name }}",
    "{{ lipsum() }}",
    "{{ range(99999999)|list }}",
    "{% include 'x' %}",
    "{{",
    "}}",
    "{%",
    "%}",
    "T",
    "M6",
    "{{ tool.name | words }}",
    "{{ -1 // 0 }}",
    "{{ 1e308 * 10 }}",
    "{{ cycler }}",
    "{{ self }}",
    "{% raw %}",
    "{% endraw %}",
    "((((((",
)


def templates() -> None:
    """Lines of dialects made of good and hostile pieces, filled in."""
    from fenrik.core.errors import FenrikError
    from fenrik.core.posting import load_dialects

    base = load_dialects()["Plain ISO"]
    counts: Counter[str] = Counter()
    longest = 0.0
    tool = {"number": 1, "name": "End mill", "rpm": 1000}
    for k in range(TEMPLATES):
        chance = random.Random(k)
        text = "".join(chance.choice(PIECES) for _ in range(chance.choice((1, 2, 5, 20, 100))))
        if k % 50 == 0:
            text = "{{ " + "(" * 1900 + "1" + ")" * 1900 + " }}"
        began = time.perf_counter()
        try:
            line = base.model_copy(update={"operation": [text]}).block("operation", tool=tool, x="1.0")
            counts["filled in"] += 1
            assert sum(map(len, line)) < 5000
        except FenrikError:
            counts["refused"] += 1
        longest = max(longest, time.perf_counter() - began)
    show("hostile templates", longest, "none over 1 s", f"{TEMPLATES}: {dict(counts)}; longest {longest:.3f} s")
    assert longest < 1.0


def programs() -> None:
    """NC texts with damage, read back."""
    from fenrik.core.errors import FenrikError
    from fenrik.core.posting.reading import read_program

    good = (
        b"%\nO100 (A)\nG21 G90 G54 G17\nT1 M6\nG43 H1\nS1000 M3\nG0 X0 Y0 Z50\nG83 X1 Y2 Z-9 R2 Q3 F100\nX5\nG73 Z-8 R2 Q2\n"
        b"G80\nG1 X3 F100\nG41 D1 X4 Y0\nG2 X6 Y0 I1 J0\nG1 G40 X7\nX9\nG2 X5 Y5 R6\nG91 G28 Z0\nG90 G98 G81 Z-5 R1\nG80\nM30\n%\n"
    )
    read_program(good)
    counts: Counter[str] = Counter()
    longest = 0.0
    held = psutil.Process().memory_info().rss
    for k in range(PROGRAMS):
        text = mangled(good, random.Random(k))
        began = time.perf_counter()
        try:
            read_program(text)
            counts["read"] += 1
        except FenrikError:
            counts["refused"] += 1
        longest = max(longest, time.perf_counter() - began)
    grown = (psutil.Process().memory_info().rss - held) / 2**20
    show(
        "hostile programs",
        longest,
        "none over 5 s",
        f"{PROGRAMS}: {dict(counts)}; longest {longest:.3f} s; memory grew by {grown:.0f} MB",
    )
    assert longest < 5.0


BENCHES = {"files": files, "documents": documents, "templates": templates, "programs": programs}
