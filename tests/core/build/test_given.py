"""What strategies are given: what they named and nothing else, made only when it is looked at."""

import gc
import weakref
from typing import ClassVar

import pytest
import test_matrix
from prism import bore, faces, flat, job_for, with_targets

from fenrik.core.build.given import given_of
from fenrik.core.solids.reading import mesh_at
from fenrik.core.strategies.given import Given, Item
from fenrik.core.strategies.registry import STRATEGIES


def test_what_is_not_named_cannot_be_looked_at():
    given = Given({"zero": Item([0], lambda: [0.0])})
    assert given.zero == [0.0]
    with pytest.raises(KeyError, match="looked at rpm, which it does not name"):
        _ = given.rpm


def test_an_item_is_made_when_it_is_looked_at_and_once():
    made = []
    given = Given({"stock": Item("key", lambda: made.append(1) or "stock")})
    assert given.key == {"stock": "key"}
    assert made == []
    assert given.stock == given.stock == "stock"
    assert made == [1]
    given.forget()
    assert given.stock == "stock"
    assert made == [1, 1]


class Seen(Given):
    looked: ClassVar[set] = set()

    def _of(self, name):
        Seen.looked.add(name)
        return super()._of(name)


SOMETIMES = {"facing": {"shadow"}, "slot": {"shadow"}, "drilling": {"rpm"}, "cutter location text": {"stock"}}
"""Looked at where the part stands over the level, by tapping, and by copies."""


@pytest.mark.parametrize("strategy", STRATEGIES)
def test_every_need_is_looked_at(strategy, monkeypatch):
    """A need that is never looked at would make paths out of date for nothing."""
    kind = next((k for s, k in test_matrix.FEW if s == strategy), STRATEGIES[strategy].cutters[0])
    Seen.looked = set()
    monkeypatch.setattr("fenrik.core.build.given.Given", Seen)
    test_matrix.walk(strategy, kind)
    needless = set(STRATEGIES[strategy].needs) - Seen.looked - SOMETIMES.get(strategy, set())
    assert needless == set()


@pytest.mark.parametrize("params", [{"strategy": "facing"}, {"strategy": "drilling", "depth_mm": 4}])
def test_facing_and_drilling_make_no_triangles(params, monkeypatch):
    made = []
    # Beyond what every path needs to look at itself.
    monkeypatch.setattr("fenrik.core.build.Build.part_distances", lambda self, setup: None)
    monkeypatch.setattr("fenrik.core.build.geometry.mesh_at", lambda *of: made.append(of) or mesh_at(*of))
    build = job_for(
        test_matrix.block(),
        [(1, params)],
        {1: flat(12) if params["strategy"] == "facing" else {"kind": "drill", "diameter_mm": 10}},
        stock={"kind": "box", "z_plus_mm": 1},
        cell_mm=0.5,
    )
    if params["strategy"] == "drilling":
        build = with_targets(build, 10, faces(build, bore(5.0)))
    assert len(build.path(build.job.operations[0]).toolpath) > 2
    assert made == []


def test_speed_counts_only_where_a_path_depends_on_it():
    """A tapping cycle feeds by its pitch and the speed; a milled pass does not know the speed."""
    build = job_for(test_matrix.block(), [(1, {"strategy": "facing"})], {1: flat(12)})
    row = build.job.operations[0]
    faster = build.with_job(
        build.job.model_copy(update={"operations": [row.model_copy(update={"spindle_rpm": 999.0})]})
    )
    assert faster.path_key(faster.job.operations[0]) == build.path_key(row)
    assert "rpm" in STRATEGIES["drilling"].needs
    assert "rpm" not in given_of(build, row, Item("", lambda: None)).key


def two_rows():
    return job_for(test_matrix.block(), [(1, {"strategy": "facing"}), (1, {"strategy": "facing"})], {1: flat(12)})


def test_a_build_goes_with_its_last_user_and_leaves_no_circles():
    """What holds itself in circles waits for a collection, which stops the server for as long as all of it is large."""
    build = two_rows()
    made = build.with_job(build.job.model_copy(update={"name": "another"}))
    for operation in made.job.operations:
        assert made.path_key(operation) == build.path_key(operation)
    gone = weakref.ref(made)
    gc.disable()
    try:
        del made
        assert gone() is None
    finally:
        gc.enable()


def test_placings_outlive_the_build_that_made_them():
    build = two_rows()
    first = build.with_job(build.job.model_copy(update={"cell_mm": 0.9}))
    setup = first.job.setups[0]
    placing = first.placing(setup)
    second = first.with_job(first.job.model_copy(update={"operations": first.job.operations[:1]}))
    del first
    gc.collect()
    assert second.placing(setup) is placing
    assert placing.earlier(setup.id) is placing
