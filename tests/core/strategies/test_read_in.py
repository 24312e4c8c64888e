"""A row whose path is a cutter location text of the job."""

import json

import numpy as np
import pytest
from prism import job_for

from fenrik.core.build import Build
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.store import MemoryStore
from fenrik.core.toolpath import Kind
from parts import box, cut

TEXT = b"""UNITS/ MM
CUTTER/ 8,0,4,0,0,0,20
FROM/ -10,10,20
RAPID
GOTO/ -10,10,-2
FEDRAT/ 500,MMPM
GOTO/ 50,10,-2
WHIRL/ 3
RAPID
GOTO/ 50,10,20
FINI
"""


def row(text=TEXT, diameter=8, **params):
    build = job_for(
        cut(box(0, 0, 0, 40, 20, 10), box(-1, 6, 8, 42, 8, 5)),
        [(1, {"strategy": "cutter location text", "file": "a.cl", **params})],
        {1: {"kind": "flat", "diameter_mm": diameter, "flutes": 3}},
        files=["a.cl"],
        cell_mm=0.5,
    )
    return Build(build.job, build.model, MemoryStore(), None, {"a.cl": text} if text is not None else {})


def test_its_motions_cut_in_the_work_frame_and_lines_that_are_not_understood_are_told():
    build = row()
    outcome = build.path(build.job.operations[0])
    cutting = outcome.toolpath.kind == Kind.CUT
    zero = build.zero(build.job.setups[0])
    assert outcome.toolpath.point[cutting][-1] - zero == pytest.approx([50, 10, -2])
    (told,) = outcome.unreached
    assert "Line 8 is not understood: the word WHIRL is not known" in told.reason
    stock = build.stock_after(build.job.operations[0])
    x, y, _ = stock.node_axes()
    middle = stock.tops()[np.searchsorted(x, zero[0] + 20), np.searchsorted(y, zero[1] + 10)]
    assert middle == pytest.approx(zero[2] - 2, abs=0.01)


def test_a_dropped_line_is_no_longer_told_and_the_change_is_in_the_document():
    build = row(edits=[{"act": "drop", "line": 8}])
    assert build.path(build.job.operations[0]).unreached == []
    assert json.loads(build.job.model_dump_json())["operations"][0]["params"]["edits"][0]["line"] == 8


def test_another_tool_and_no_unit_are_told():
    build = row(TEXT.replace(b"UNITS/ MM\n", b""), diameter=6, edits=[{"act": "drop", "line": 7}])
    reasons = [u.reason for u in build.path(build.job.operations[0]).unreached]
    assert any("another cutter: diameter 8 instead of 6" in r for r in reasons)
    assert any("names no unit" in r for r in reasons)
    inch = row(TEXT.replace(b"UNITS/ MM\n", b""), unit="inch", edits=[{"act": "drop", "line": 7}])
    path = inch.link_of(inch.job.operations[0])
    assert "names no unit" not in str([u.reason for u in inch.outcome(inch.job.operations[0]).unreached])
    assert path.path.key != build.link_of(build.job.operations[0]).path.key


def test_another_text_of_the_same_name_is_another_path():
    one, other = row(), row(TEXT.replace(b"-2\n", b"-3\n"))
    assert one.path_key(one.job.operations[0]) != other.path_key(other.job.operations[0])


@pytest.mark.parametrize(
    ("text", "why"), [(None, "is not there"), (b"FINI\n", "holds no motion"), (b"\xff\xfe\x00" * 50, "holds no motion")]
)
def test_a_text_that_is_missing_or_empty_is_a_failed_row_with_its_reason(text, why):
    build = row(text)
    with pytest.raises(FenrikError, match=why):
        build.path(build.job.operations[0])


def test_a_document_without_a_file_is_told_what_to_do():
    build = row(file="")
    data = json.loads(build.job.model_dump_json())
    build = build.with_job(parse_job(data))
    with pytest.raises(FenrikError, match="Bring a cutter location text in"):
        build.path(build.job.operations[0])
