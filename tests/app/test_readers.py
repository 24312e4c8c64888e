"""Foreign files are read in processes with limits: what one of them does is told to the one who sent it, and no more."""

import gzip
import io
import os
import tempfile
import threading
import time
import zipfile
from pathlib import Path

import psutil
import pytest
import reader_work as work

from cluster import words_of
from fenrik.app import readers
from fenrik.app.readers import Limits, read_in_own_process
from fenrik.app.reading import check_file, read_job_file, read_model, read_tools
from fenrik.core.errors import FenrikError
from fenrik.core.solids.packing import unpack_solid

TIGHT = Limits(memory_mb=900, cpu_s=2, written_bytes=2**20)


@pytest.fixture
def tight(monkeypatch):
    monkeypatch.setattr(Limits, "for_bytes", classmethod(lambda cls, size: TIGHT))


def read(what, *given):
    return read_in_own_process(what, *given, size=10, field="file", name="a.step")


@pytest.mark.parametrize(
    ("what", "words"),
    [
        (work.greedy, "more than 900 MB"),
        (work.at_once, "more than 900 MB"),
        (work.busy, "longer than"),
        (work.sleepy, "longer than 8 s"),
        (work.crash, "made the reader crash"),
    ],
)
@pytest.mark.usefixtures("tight")
def test_a_process_ends_at_its_limit_while_another_file_is_read_at_once(what, words):
    told = []

    def send():
        with pytest.raises(FenrikError) as error:
            read(what)
        told.append(str(error.value))

    bad = threading.Thread(target=send)
    bad.start()
    began = time.monotonic()
    while bad.is_alive():
        assert read(work.add, 1, 2) == 3
        time.sleep(0.05)
    assert words in told[0]
    assert time.monotonic() - began < 60


@pytest.mark.usefixtures("tight")
def test_no_process_of_a_file_is_left():
    for what in (work.crash, work.greedy, work.busy):
        with pytest.raises(FenrikError):
            read(what)
    server = next(p for p in psutil.Process().children(recursive=True) if "forkserver" in " ".join(words_of(p)))
    assert server.children() == []


def test_nothing_of_the_world_can_be_reached():
    assert read(work.outside) == []


def test_no_folder_is_left(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    with pytest.raises(FenrikError, match="crash"):
        read(work.leave_files_behind)
    assert list(tmp_path.iterdir()) == []


def test_nothing_is_left_in_shared_memory():
    def named():
        return set(Path("/dev/shm").glob("sem.*"))

    before = named()
    for _ in range(6):
        with pytest.raises(FenrikError, match="crash"):
            read(work.crash_beside_threads)
    # Other tests may make one meanwhile.
    assert len(named() - before) < 4


def test_a_reader_that_waits_too_long_says_so(monkeypatch):
    monkeypatch.setattr(readers, "_places", threading.BoundedSemaphore(1))
    monkeypatch.setattr(readers, "WAIT_S", 0.1)
    slow = threading.Thread(target=lambda: read(time.sleep, 2))
    slow.start()
    time.sleep(0.5)
    with pytest.raises(FenrikError, match="waits for other files"):
        read(work.add, 1, 2)
    slow.join()


def bomb(name, megabytes):
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        archive.writestr("job.json", '{"name": "a"}')
        with archive.open(name, "w", force_zip64=True) as member:
            for _ in range(megabytes):
                member.write(bytes(2**20))
    return bytearray(stream.getvalue())


def understated(data):
    """The same archive that says its second member is small."""
    at = data.rfind(b"PK\x01\x02")
    data[at + 24 : at + 28] = (1000).to_bytes(4, "little")
    return bytes(data)


def test_what_an_archive_unpacks_to_is_counted_and_not_believed():
    data = bomb("part.step", 700)
    assert len(data) < 2**20
    for one in (bytes(data), understated(data)):
        with pytest.raises(FenrikError, match=r"unpacks to more|damaged archive"):
            read_job_file(one, "a.zip")
    with pytest.raises(FenrikError, match=r"unpacks to more|memory|damaged"):
        read_model(bytes(bomb("3D/3dmodel.model", 700)), "a.3mf", 1.0)


def test_a_list_of_a_million_columns_is_refused_in_its_own_process():
    held = psutil.Process().memory_info().rss
    with pytest.raises(FenrikError, match="columns"):
        read_tools(b"a," * 3_000_000, "tools.csv")
    assert psutil.Process().memory_info().rss - held < 100 * 2**20


@pytest.mark.parametrize(("suffix", "count"), [(".brep", 40), (".igs", 20), (".step", 20)])
def test_damaged_models_are_refused_or_read_and_never_raise_anything_else(pocket_shape, tmp_path, suffix, count):
    from OCP.BRepTools import BRepTools
    from OCP.IGESControl import IGESControl_Writer

    from fenrik.demo.modelling import write_step

    path = tmp_path / f"a{suffix}"
    if suffix == ".brep":
        BRepTools.Write_s(pocket_shape, str(path))
    elif suffix == ".igs":
        writer = IGESControl_Writer()
        writer.AddShape(pocket_shape)
        writer.Write(str(path))
    else:
        write_step(pocket_shape, path)
    good = path.read_bytes()
    assert len(unpack_solid(read_model(good, path.name, 1.0)).faces) == 11
    for k in range(count):
        data = bytearray(good)
        for j in range(1 + k % 7):
            data[(k * 7919 + j * 104729) % len(data)] = 48 + (k * 31 + j) % 10
        try:
            unpack_solid(read_model(bytes(data), path.name, 1.0))
        except FenrikError as error:
            assert error.problems[0].way_out


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("a.svg", b'<svg xmlns="http://www.w3.org/2000/svg"><ellipse rx="1e9" ry="1e8"/></svg>'),
        ("b.svg", b'<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0 C 1e9 1e9 -1e9 1e9 3 3"/></svg>'),
        ("c.svg", gzip.compress(b"<svg/>", mtime=0)),
        (
            "d.svg",
            b'<svg xmlns="http://www.w3.org/2000/svg"><g id="a0"><path d="M0 0 L1 1"/></g>'
            + b"".join(b'<g id="a%d">%s</g>' % (k + 1, b'<use href="#a%d"/>' % k * 10) for k in range(9))
            + b'<use href="#a9"/></svg>',
        ),
        (
            "e.svg",
            b'<svg xmlns="http://www.w3.org/2000/svg"><g id="a"><use href="#b"/></g><g id="b"><use href="#a"/></g></svg>',
        ),
    ],
    ids=["an ellipse", "a curve", "packed", "uses of uses", "uses in a ring"],
)
def test_curves_and_parts_of_drawings_have_budgets(name, data):
    began = time.monotonic()
    with pytest.raises(FenrikError) as error:
        check_file(data, name)
    assert error.value.problems[0].way_out
    assert time.monotonic() - began < 10


def test_what_a_killed_server_left_is_thrown_away_and_what_is_in_use_stays(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    left, used, foreign = (tmp_path / n for n in (f"{readers.FOLDER}left", f"{readers.FOLDER}used", "other"))
    for folder in (left, used, foreign):
        folder.mkdir()
        (folder / "part.step").write_text("x")
    old = time.time() - readers.FORGOTTEN_S - 60
    for folder in (left, foreign):
        os.utime(folder, (old, old))
    readers.sweep()
    assert {p.name for p in tmp_path.iterdir()} == {used.name, "other"}
