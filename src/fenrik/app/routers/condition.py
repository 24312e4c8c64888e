"""How the server is: alive, ready for work, and in figures."""

from __future__ import annotations

import secrets
from typing import Annotated

from fastapi import APIRouter, Header, Response
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from fenrik import __version__
from fenrik.app import condition, metrics, ready
from fenrik.app.access.roles import NOBODY, needs
from fenrik.app.settings import Serving, metrics_token

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
@needs(NOBODY)
def health() -> Health:
    """The server is alive; it says nothing of the database."""
    return Health(version=__version__, **ready.state().model_dump())


@router.get("/ready", operation_id="ready", responses={503: {"model": Readiness}})
@needs(NOBODY)
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
@needs(NOBODY)
def figures(authorization: Annotated[str, Header(max_length=200)] = "") -> Response:
    """Figures in the open text format that scrapers of monitoring systems read; elsewhere than on loopback for those
    that send `FENRIK_METRICS_TOKEN` as a bearer token."""
    if not (Serving.here().on_loopback or _is_scraper(authorization)):
        raise HTTPException(401, "Send the token that the server was started with (FENRIK_METRICS_TOKEN).")
    return Response(metrics.text_now(), media_type=metrics.MEDIA)


def _is_scraper(authorization: str) -> bool:
    token = metrics_token()
    return bool(token) and secrets.compare_digest(authorization.encode(), f"Bearer {token}".encode())
