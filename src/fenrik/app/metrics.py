"""Figures for monitoring, in the text format of OpenMetrics' forerunner that all scrapers read (prometheus-client)."""

from __future__ import annotations

from collections.abc import Iterator

import psutil
from prometheus_client import CollectorRegistry, Histogram, generate_latest
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, func, select, text

from fenrik.app.events import hub
from fenrik.app.tables import TaskRow, engine
from fenrik.app.work.worker import STALLED_S

MEDIA = "text/plain; version=0.0.4; charset=utf-8"
_registry = CollectorRegistry()
requests_seconds = Histogram(
    "fenrik_request_seconds",
    "How long answers took, by method and first digit of the status.",
    ("method", "status"),
    buckets=(0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0),
    registry=_registry,
)


class _Now(Collector):
    """What is looked up at the moment of asking."""

    def collect(self) -> Iterator[Metric]:
        yield GaugeMetricFamily("fenrik_streams", "Streams of events that are open.", value=hub.count())
        own = psutil.Process()
        memory = GaugeMetricFamily("fenrik_memory_bytes", "Memory of the server and its processes.", labels=["part"])
        memory.add_metric(["server"], own.memory_info().rss)
        memory.add_metric(["others"], sum(_rss(p) for p in own.children(recursive=True)))
        yield memory
        try:
            with Session(engine()) as session:
                yield from _kept(session)
        except SQLAlchemyError:
            yield GaugeMetricFamily("fenrik_database_up", "Whether the database answers.", value=0)


def _kept(session: Session) -> Iterator[Metric]:
    yield GaugeMetricFamily("fenrik_database_up", "Whether the database answers.", value=1)
    tasks = GaugeMetricFamily("fenrik_tasks", "Tasks by state.", labels=["state"])
    for state, count in session.exec(select(TaskRow.state, func.count()).group_by(TaskRow.state)).all():
        tasks.add_metric([state], count)
    yield tasks
    statement = """
        select (select count(*) from procrastinate_workers
                where last_heartbeat > now() - make_interval(secs => :dead)),
               (select coalesce(sum(octet_length(data)), 0) from artefact)
    """
    row = session.connection().execute(text(statement), {"dead": STALLED_S}).one()
    yield GaugeMetricFamily("fenrik_workers", "Workers that were heard of lately.", value=row[0])
    yield GaugeMetricFamily("fenrik_artefact_bytes", "What computed results take in the database.", value=row[1])


def _rss(process: psutil.Process) -> int:
    try:
        return int(process.memory_info().rss)
    except psutil.Error:
        return 0


_registry.register(_Now())


def text_now() -> bytes:
    """All figures as they are now."""
    return generate_latest(_registry)
