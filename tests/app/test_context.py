"""What is worked out from a job and kept in it loses nobody's change that was made meanwhile."""

import io

import pytest
from fastapi import UploadFile

from app_fixtures import database_of_its_own
from fenrik.app import context, documents, library
from fenrik.app.context import open_job, rework
from fenrik.app.documents import Change
from fenrik.app.problems import Overtaken
from fenrik.app.routers import library as tool_routes
from fenrik.app.routers import parts, planning, setups
from fenrik.core.errors import FenrikError
from fenrik.core.tools.library import tools_to_csv
from fenrik.demo import demo_job, demo_model

RIVAL = {"setups/top/name": "Lamp side", "operations/10/name": "Mine", "tools/2/stick_out_mm": 43.5, "cell_mm": 0.7}
"""What somebody else changes meanwhile."""
PLATE = {"kind": "plate", "id": "v", "size_x_mm": 200, "size_y_mm": 200, "place": {"z_mm": 7}}


@pytest.fixture(scope="module", autouse=True)
def own_database():
    with database_of_its_own("fenrik_test_context"):
        yield


@pytest.fixture
def job():
    bracket = demo_job("lantern-bracket").model_dump(mode="json")
    bracket["setups"][0] |= {"fixtures": [PLATE], "table_below_mm": 60}
    bracket["operations"] = [o for o in bracket["operations"] if o["number"] in (10, 40, 50)]
    library.keep_tools(demo_job("lantern-bracket").tools)
    return documents.create(context.parse_job(bracket), ("lantern-bracket.step", demo_model("lantern-bracket")))


def change_fields(job_id):
    documents.change(job_id, [Change(path=p, value=v, check=False) for p, v in RIVAL.items()], "rival")


@pytest.fixture
def meanwhile(monkeypatch):
    """Have somebody change the job while the next so many things are worked out from it."""

    def prepare(times, rival=change_fields):
        left = [times]

        def opening(job_id):
            opened = open_job(job_id)
            if left[0]:
                left[0] -= 1
                rival(job_id)
            return opened

        monkeypatch.setattr(context, "open_job", opening)

    return prepare


def field(job_id, path):
    found = open_job(job_id).job.model_dump(mode="json")
    for name in path.split("/"):
        if isinstance(found, list):
            found = next(m for m in found if str(m.get("id", m.get("number"))) == name)
        else:
            found = found[name]
    return found


def upload(name, data):
    return UploadFile(io.BytesIO(data), filename=name)


def rows(job_id):
    return [o.number for o in open_job(job_id).job.operations]


WORK = {
    "route": lambda job: planning.take_proposal(job, "top"),
    "left over": lambda job: planning.make_left_over(job, planning.FacesLeft(faces=FACES)),
    "holes": lambda job: planning.holes_way(job, planning.HolesMade(faces=FACES, way="drill")),
    "order": lambda job: planning.take_order(job, "top"),
    "tools of the library": lambda job: tool_routes.take_tools(job, tool_routes.Take(numbers=[1])),
    "tools of a file": lambda job: tool_routes.import_job_tools(job, upload("t.csv", tools_to_csv([SPARE]).encode())),
    "fixture": lambda job: setups.close_gap(job, "top", "v"),
    "scale": lambda job: parts.scale_part(job, 1.5),
    "model": lambda job: parts.put_part(job, upload("b.step", demo_model("lantern-bracket"))),
}
FACES = list(range(200))
SPARE = demo_job("lantern-bracket").tools[0].model_copy(update={"number": 77})


@pytest.mark.parametrize("work", WORK.values(), ids=WORK)
def test_what_another_changed_meanwhile_stays(job, meanwhile, work):
    before = open_job(job)
    meanwhile(1)
    work(job)
    assert {p: field(job, p) for p in RIVAL} == RIVAL
    labels = [r.label for r in documents.history(job)]
    assert labels[1:] == ["rival", "new"]
    assert open_job(job).job != before.job


def test_where_it_is_overtaken_each_time_it_is_refused_with_words_and_nothing_of_it_is_kept(job, meanwhile):
    meanwhile(99)
    with pytest.raises(Overtaken) as told:
        rework(job, "rows away", lambda opened: (opened.job.model_copy(update={"operations": []}), None))
    assert "was changed while this was worked out" in str(told.value.problem)
    assert rows(job) == [10, 40, 50]
    assert {r.label for r in documents.history(job)} == {"rival", "new"}


def test_a_model_is_compared_with_the_one_that_another_brought_in_meanwhile(job, meanwhile):
    def bring_another(job_id):
        with documents.Session(documents.engine()) as session:
            row, revision = documents.load(session, job_id, lock=True)
            sha = documents.keep_model(session, "other.step", demo_model("valve-manifold"))
            documents.save(session, row, revision.document, sha, "rival", revision.files)
            session.commit()

    meanwhile(1, bring_another)
    found = parts.put_part(job, upload("lantern-bracket.step", demo_model("lantern-bracket")))
    # The manifold's faces are gone; beside the bracket that was there before, all would be the same.
    assert found.changed["gone"] > 0
    assert [r.label for r in documents.history(job)] == ["part lantern-bracket.step", "rival", "new"]


def test_a_job_that_another_has_deleted_is_not_changed(job):
    change_fields(job)
    documents.delete(job)
    with pytest.raises(FenrikError, match="does not exist"):
        documents.change(job, [Change(path="cell_mm", value=0.9, check=False)], "late")


def test_a_process_that_holds_much_keeps_few_jobs_at_hand(monkeypatch):
    monkeypatch.setattr(context, "memory_mb", lambda _process: 0.0)
    ids = [documents.create(context.parse_job({"name": f"job {k}"})) for k in range(5)]
    for job_id in ids:
        open_job(job_id)
    assert set(ids) <= context._builds.keys()
    monkeypatch.setattr(context, "memory_mb", lambda _process: context.MUCH_MB + 1)
    documents.change(ids[0], [Change(path="cell_mm", value=0.7, check=False)], "cell")
    assert open_job(ids[0]).job.cell_mm == 0.7
    assert list(context._builds) == [ids[4], ids[0]]


def test_what_changes_nothing_is_no_step_of_undo(job):
    assert rework(job, "nothing", lambda opened: (opened.job, "found")) == "found"
    assert [r.label for r in documents.history(job)] == ["new"]
