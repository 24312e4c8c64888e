"""Several people change one job at a time: a state machine of hypothesis against a plain model of the document."""

import contextlib

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test
from sqlmodel import Session

from app_fixtures import database_of_its_own
from fenrik.app.documents import Change, change, create, history, load, step
from fenrik.app.problems import Conflict
from fenrik.app.tables import engine
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job

PEOPLE = st.integers(0, 2)
CELLS = st.sampled_from([0.5, 0.6, 0.7, 0.8])
NUMBERS = st.integers(1, 3)


@pytest.fixture(scope="module")
def own_database():
    with database_of_its_own("fenrik_test_documents"):
        yield


def tool(number, diameter):
    return {
        "number": number,
        "stick_out_mm": 40.0,
        "cutter": {"kind": "flat", "diameter_mm": diameter, "flute_length_mm": 20.0},
    }


class Edits(RuleBasedStateMachine):
    """`seen`: what each person's page shows. `past`, `future`: what undo and redo lead to."""

    @initialize()
    def begin(self):
        self.job = create(parse_job({"name": "edits", "cell_mm": 0.5}))
        self.now = {"cell": 0.5, "tools": {}}
        self.past, self.future = [], []
        self.seen = [self.copy() for _ in range(3)]
        self.version = 0

    def copy(self):
        return {"cell": self.now["cell"], "tools": dict(self.now["tools"])}

    @contextlib.contextmanager
    def changed(self):
        """One change that goes through."""
        self.past.append(self.copy())
        self.future = []
        yield
        self.version += 1

    @rule(who=PEOPLE)
    def look(self, who):
        self.seen[who] = self.copy()

    @rule(who=PEOPLE, cell=CELLS)
    def set_field(self, who, cell):
        one = Change(path="cell_mm", value=cell, was=self.seen[who]["cell"])
        if self.seen[who]["cell"] != self.now["cell"]:
            with pytest.raises(Conflict) as told:
                change(self.job, [one], "cell")
            assert str(self.now["cell"]) in told.value.problem.message
        else:
            with self.changed():
                change(self.job, [one], "cell")
                self.now["cell"] = cell
            self.seen[who]["cell"] = cell

    @rule(number=NUMBERS, diameter=st.sampled_from([4.0, 6.0]))
    def add_tool(self, number, diameter):
        one = Change(op="add", path="tools", value=tool(number, diameter))
        if number in self.now["tools"]:
            with pytest.raises(FenrikError):
                change(self.job, [one], "tool")
        else:
            with self.changed():
                change(self.job, [one], "tool")
                self.now["tools"][number] = diameter

    @rule(number=NUMBERS)
    def remove_tool(self, number):
        one = Change(op="remove", path=f"tools/{number}")
        if number in self.now["tools"]:
            with self.changed():
                change(self.job, [one], "no tool")
                del self.now["tools"][number]
        else:
            with pytest.raises((Conflict, FenrikError)):
                change(self.job, [one], "no tool")

    @rule(who=PEOPLE, number=NUMBERS, diameter=st.sampled_from([4.0, 6.0, 8.0]))
    def set_diameter_and_cell_at_once(self, who, number, diameter):
        """All changes of one request go through, or none."""
        seen = self.seen[who]
        both = [
            Change(path="cell_mm", value=0.9, was=seen["cell"]),
            Change(path=f"tools/{number}/cutter/diameter_mm", value=diameter, was=seen["tools"].get(number)),
        ]
        fits = seen["cell"] == self.now["cell"] and number in self.now["tools"]
        if fits and seen["tools"].get(number) == self.now["tools"][number]:
            with self.changed():
                change(self.job, both, "both")
                self.now["cell"], self.now["tools"][number] = 0.9, diameter
        else:
            with pytest.raises((Conflict, FenrikError)):
                change(self.job, both, "both")

    @rule()
    def refused(self):
        with pytest.raises(FenrikError):
            change(self.job, [Change(path="cell_mm", value=-1, check=False)], "wrong")

    @rule()
    def undo(self):
        if self.past:
            self.future.append(self.copy())
            self.now = self.past.pop()
            self.version += 1
        assert step(self.job, -1) == self.version

    @rule()
    def redo(self):
        if self.future:
            self.past.append(self.copy())
            self.now = self.future.pop()
            self.version += 1
        assert step(self.job, 1) == self.version

    @invariant()
    def the_document_is_as_everybody_agreed(self):
        if not hasattr(self, "job"):
            return
        with Session(engine()) as session:
            row, revision = load(session, self.job)
            assert row.version == self.version
            assert (row.head, row.top) == (len(self.past), len(self.past) + len(self.future))
            assert revision.document["cell_mm"] == self.now["cell"]
            found = {t["number"]: t["cutter"]["diameter_mm"] for t in revision.document["tools"]}
            assert found == self.now["tools"]
        assert len(history(self.job)) == len(self.past) + len(self.future) + 1


@pytest.mark.usefixtures("own_database")
def test_what_several_people_change_is_what_they_agreed_on():
    run_state_machine_as_test(
        Edits,
        settings=settings(
            max_examples=20, stateful_step_count=25, deadline=None, suppress_health_check=list(HealthCheck)
        ),
    )
