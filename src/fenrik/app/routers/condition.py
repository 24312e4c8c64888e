"""How the server is: alive, ready for work, and in figures."""

from __future__ import annotations

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from fenrik import __version__
from fenrik.app import condition, metrics, ready

router = APIRouter(prefix="/api", tags=["condition"])


class Health(ready.Ready):
    """What answers, and whether it has all that it computes with."""

    version: str


class Readiness(BaseModel):
    """Whether work can be done; each is empty where it is well."""

    database: str = ""
    queue: str = ""
    disk: str = ""
    workers: int = Field(default=0, description="that were heard of lately")


@router.get("/health", operation_id="health")
def health() -> Health:
    """The server is alive; it says nothing of the database."""
    return Health(version=__version__, **ready.state().model_dump())


@router.get("/ready", operation_id="ready", responses={503: {"model": Readiness}})
def readiness(response: Response) -> Readiness:
    """Whether database, queue and disk let work be done: 200, or 503 with what is wrong."""
    found = Readiness(**condition.look())
    if found.database or found.queue or found.disk:
        response.status_code = 503
    return found


@router.get(
    "/metrics",
    operation_id="metrics",
    response_class=Response,
    responses={200: {"content": {"text/plain": {"schema": {"type": "string"}}}}},
)
def figures() -> Response:
    """Figures in the open text format that scrapers of monitoring systems read."""
    return Response(metrics.text_now(), media_type=metrics.MEDIA)
