"""The life of tasks under everything that may happen to workers, queue and database, as a state machine of hypothesis."""

import contextlib

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    Bundle,
    RuleBasedStateMachine,
    consumes,
    invariant,
    multiple,
    rule,
    run_state_machine_as_test,
)
from sqlmodel import Session, select, text

from app_fixtures import database_of_its_own
from fenrik.app.documents import create
from fenrik.app.tables import TaskRow, engine
from fenrik.app.work import entries, tasks
from fenrik.app.work.entries import queue_name
from fenrik.core.job_reading import parse_job

DEAD_S = 600.0


@pytest.fixture(scope="module")
def own_database():
    with database_of_its_own("fenrik_test_tasks"):
        yield


def run(statement, **values):
    with Session(engine()) as session:
        result = session.connection().execute(text(statement), values)
        rows = result.fetchall() if result.returns_rows else None
        session.commit()
        return rows


def rows_of_tasks():
    with Session(engine()) as session:
        return {t.id: t for t in session.exec(select(TaskRow)).all()}


class Life(RuleBasedStateMachine):
    attempts = Bundle("attempts")

    def __init__(self):
        super().__init__()
        run("delete from procrastinate_jobs")
        run("delete from procrastinate_workers")
        run("delete from task")
        self.job = create(parse_job({"name": "life"}))
        self.ended = {}
        self.worker = None
        self.workers = []

    def _take(self):
        """What a worker does: fetches an entry and begins its task."""
        worker = run("select * from procrastinate_register_worker_v1()")[0][0]
        self.workers.append(worker)
        run("update procrastinate_jobs set scheduled_at = null")
        found = run(
            "select * from procrastinate_fetch_job_v2(array[cast(:q as varchar)], :w)", q=queue_name(), w=worker
        )
        queue_id = found[0][0]
        if queue_id is None:
            return None
        task_id = run("select args->>'task_id' from procrastinate_jobs where id = :i", i=queue_id)[0][0]
        attempt = tasks.begin(task_id, queue_id, f"worker {worker}")
        if attempt is None:
            self._leave(queue_id)
            return None
        return attempt, queue_id, worker

    def _leave(self, queue_id):
        """The queue's own end of an entry; it is told where somebody else dropped it meanwhile."""
        run("delete from procrastinate_jobs where id = :i", i=queue_id)

    @rule(numbers=st.sampled_from([[], [10], [20]]))
    def submit(self, numbers):
        task_id = tasks.submit(self.job, {"setup": "s", "operations": numbers})
        assert rows_of_tasks()[task_id].state == "waiting"

    @rule(target=attempts)
    def begin(self):
        taken = self._take()
        return multiple() if taken is None else taken

    @contextlib.contextmanager
    def _heard_only_if_it_counts(self, attempt):
        before = rows_of_tasks().get(attempt.task_id)
        yield
        if before is not None and (before.state, before.attempt) != ("running", attempt.number):
            assert rows_of_tasks()[attempt.task_id] == before

    @rule(one=attempts, fraction=st.floats(0, 1))
    def progress(self, one, fraction):
        with self._heard_only_if_it_counts(one[0]):
            tasks.progress(one[0], fraction, "cutting")

    @rule(one=attempts)
    def keep_something(self, one):
        with Session(engine()) as session:
            tasks.kept_something(session, one[0])
            session.commit()

    @rule(one=consumes(attempts), state=st.sampled_from(["done", "failed", "cancelled"]))
    def finish(self, one, state):
        with self._heard_only_if_it_counts(one[0]):
            tasks.finish(one[0], state, state, [])
        self._leave(one[1])

    @rule(one=attempts)
    def finish_and_be_killed(self, one):
        tasks.finish(one[0], "done", "done", [])

    @rule(one=consumes(attempts), its_fault=st.booleans())
    def give_back(self, one, its_fault):
        with self._heard_only_if_it_counts(one[0]):
            wait = tasks.give_back(one[0], "stopped", its_fault)
        if wait is not None:
            run("update procrastinate_jobs set status = 'todo' where id = :i and status = 'doing'", i=one[1])
        else:
            self._leave(one[1])

    @rule(one=attempts)
    def its_worker_dies(self, one):
        run("update procrastinate_workers set last_heartbeat = now() - interval '1 hour' where id = :w", w=one[2])

    @rule(one=attempts)
    def its_worker_is_forgotten(self, one):
        run("delete from procrastinate_workers where id = :w", w=one[2])

    @rule(one=attempts, its_fault=st.booleans())
    def another_takes_its_place(self, one, its_fault):
        tasks.take_place(f"worker {one[2]}", its_fault)

    @rule(one=attempts, status=st.sampled_from(["failed", "todo", "aborted"]))
    def its_entry_is_changed(self, one, status):
        run(
            "update procrastinate_jobs set status = cast(:s as procrastinate_job_status) where id = :i and status = 'doing'",
            s=status,
            i=one[1],
        )

    @rule()
    def an_entry_is_lost(self):
        run("delete from procrastinate_jobs where id = (select max(id) from procrastinate_jobs)")

    @rule(which=st.integers(0, 5))
    def cancel(self, which):
        known = sorted(rows_of_tasks())
        if known:
            assert tasks.cancel(known[which % len(known)])

    @rule()
    def repair(self):
        tasks.repair(DEAD_S)
        lost = run(
            """select t.id from task t left join procrastinate_jobs q on q.id = t.queue_id and q.status in ('todo', 'doing')
               where t.state in ('waiting', 'running') and q.id is null"""
        )
        assert lost == []
        assert tasks.repair(DEAD_S) == 0

    @invariant()
    def what_has_ended_stays_so_and_counts_hold(self):
        now = rows_of_tasks()
        for task_id, state in self.ended.items():
            assert now[task_id].state == state
        self.ended = {k: t.state for k, t in now.items() if t.state not in tasks.OPEN_STATES}
        assert all(0 <= t.in_vain <= tasks.MOST_IN_VAIN for t in now.values())
        assert all(t.state == "running" or not t.worker for t in now.values())

    def teardown(self):
        """Whatever has happened: watcher and workers bring every task to its end without a hand."""
        run("update procrastinate_workers set last_heartbeat = now() - interval '1 hour'")
        for _ in range(12):
            tasks.repair(DEAD_S)
            while (taken := self._take()) is not None:
                tasks.finish(taken[0], "done", "done", [])
                self._leave(taken[1])
        assert [t for t in rows_of_tasks().values() if t.state in tasks.OPEN_STATES] == []
        assert run("select id from procrastinate_jobs") == []


@pytest.mark.usefixtures("own_database")
def test_every_task_comes_to_an_end():
    run_state_machine_as_test(
        Life,
        settings=settings(
            max_examples=25, stateful_step_count=30, deadline=None, suppress_health_check=list(HealthCheck)
        ),
    )


@pytest.mark.usefixtures("own_database")
def test_work_that_always_kills_its_worker_is_given_up_and_says_so():
    life = Life()
    task_id = tasks.submit(life.job, {"setup": "s"})
    waits = []
    for _ in range(tasks.MOST_IN_VAIN):
        life._take()
        run("delete from procrastinate_workers")
        tasks.repair(DEAD_S)
        found = rows_of_tasks()[task_id]
        waits.append(run("select extract(epoch from again_at - now()) from task")[0][0])
        if found.state == "waiting":
            assert f"attempt {found.in_vain + 1} of {tasks.MOST_IN_VAIN} follows" in found.words
    assert found.state == "failed"
    assert "Given up after 5 attempts" in found.words
    assert [round(w) for w in waits[:-1]] == [1, 2, 4, 8]
    assert found.problems[0]["way_out"]
    assert tasks.submit(life.job, {"setup": "s"}) != task_id


@pytest.mark.usefixtures("own_database")
def test_attempts_that_nobody_saw_end_are_counted_too():
    """The queue hands the entry out again by itself, as after an error of ours."""
    life = Life()
    task_id = tasks.submit(life.job, {"setup": "s"})
    for _ in range(tasks.MOST_IN_VAIN + 1):
        life._take()
        run("update procrastinate_jobs set status = 'todo'")
    assert rows_of_tasks()[task_id].state == "failed"


@pytest.mark.usefixtures("own_database")
def test_an_attempt_that_was_cut_off_is_not_heard_any_more():
    life = Life()
    task_id = tasks.submit(life.job, {"setup": "s"})
    first, _, _ = life._take()
    run("delete from procrastinate_workers")
    tasks.repair(DEAD_S)
    assert tasks.is_over(first)
    second, _, _ = life._take()
    tasks.progress(first, 0.9, "cut off")
    tasks.finish(first, "failed", "cut off", [])
    assert rows_of_tasks()[task_id].state == "running"
    tasks.finish(second, "done", "done", [])
    assert rows_of_tasks()[task_id].state == "done"


@pytest.mark.usefixtures("own_database")
def test_task_and_entry_are_there_together_or_not_at_all(monkeypatch):
    life = Life()

    def killed(*_, **__):
        raise OSError("the server was killed here")

    monkeypatch.setattr(tasks, "notify", killed)
    with pytest.raises(OSError, match="killed"):
        tasks.submit(life.job, {"setup": "s"})
    assert rows_of_tasks() == {}
    assert run("select id from procrastinate_jobs") == []


@pytest.mark.usefixtures("own_database")
def test_a_worker_of_another_version_does_not_take_the_work(monkeypatch):
    life = Life()
    tasks.submit(life.job, {"setup": "s"})
    mine = entries.queue_name()
    monkeypatch.setattr(entries, "queue_name", lambda: "compute of another version")
    monkeypatch.setitem(globals(), "queue_name", lambda: "compute of another version")
    assert life._take() is None
    with Session(engine()) as session:
        entries.adopt(session)
        session.commit()
    assert life._take() is not None
    assert mine != entries.queue_name()


@pytest.mark.usefixtures("own_database")
def test_work_that_goes_on_is_not_lost_though_its_queue_is_silent():
    life = Life()
    task_id = tasks.submit(life.job, {"setup": "s"})
    attempt, _, _ = life._take()
    run("update procrastinate_workers set last_heartbeat = now() - interval '1 hour'")
    tasks.lives(attempt)
    assert tasks.repair(DEAD_S) == 0
    assert rows_of_tasks()[task_id].state == "running"


@pytest.mark.usefixtures("own_database")
def test_nobody_is_lost_while_the_database_has_only_just_come_back():
    life = Life()
    task_id = tasks.submit(life.job, {"setup": "s"})
    life._take()
    run("update procrastinate_workers set last_heartbeat = now() - interval '1 hour'")
    assert tasks.repair(DEAD_S, settled_after_s=1e9) == 0
    assert rows_of_tasks()[task_id].state == "running"
    assert tasks.repair(DEAD_S, settled_after_s=0.001) == 1
