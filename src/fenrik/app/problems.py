"""Errors as RFC 9457 problem documents."""

from __future__ import annotations

import logging
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic import BaseModel
from sqlalchemy.exc import DataError, OperationalError, ProgrammingError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect

from fenrik.app.outage import database_problem
from fenrik.core.errors import FenrikError, Problem

MEDIA = "application/problem+json"
log = logging.getLogger(__name__)


class ProblemField(BaseModel):
    field: str
    message: str
    way_out: str = ""
    value: Any = None


class ProblemDocument(BaseModel):
    """RFC 9457: what is wrong, field by field, with the way out."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str = ""
    problems: list[ProblemField] = []


class Conflict(Exception):
    """Two people changed the same field."""

    title = "Somebody else changed this field."

    def __init__(self, problem: Problem) -> None:
        self.problem = problem


class Overtaken(Conflict):
    """A job is no longer what something was worked out from."""

    title = "Somebody else changed this job meanwhile."


def answer(status: int, title: str, problems: list[Problem] | None = None, detail: str = "") -> JSONResponse:
    document = ProblemDocument(
        title=title,
        status=status,
        detail=detail,
        problems=[ProblemField(**{**p.as_dict(), "value": _plain(p.value)}) for p in problems or []],
    )
    return JSONResponse(document.model_dump(mode="json"), status, media_type=MEDIA)


def _plain(value: Any) -> Any:
    return value if isinstance(value, str | int | float | bool | list | dict | None) else str(value)


def install(app: FastAPI) -> None:
    """Turn every kind of error into a problem document."""

    @app.exception_handler(FenrikError)
    async def _wrong(_request: Request, error: FenrikError) -> JSONResponse:
        return answer(422, "This cannot be done as asked.", error.problems, str(error))

    @app.exception_handler(Conflict)
    async def _conflict(_request: Request, error: Conflict) -> JSONResponse:
        return answer(409, error.title, [error.problem], str(error.problem))

    @app.exception_handler(RequestValidationError)
    async def _invalid(_request: Request, error: RequestValidationError) -> JSONResponse:
        problems = [
            Problem(".".join(str(p) for p in e["loc"]), e["msg"], "Correct this value.") for e in error.errors()
        ]
        return answer(422, "The request is not valid.", problems)

    @app.exception_handler(HTTPException)
    async def _http(_request: Request, error: HTTPException) -> JSONResponse:
        return answer(error.status_code, str(error.detail))

    @app.exception_handler(DataError)
    @app.exception_handler(UnicodeError)
    async def _unkeepable(_request: Request, error: Exception) -> JSONResponse:
        problem = Problem("request", "holds a character or number that cannot be kept.", "Remove control characters.")
        return answer(422, "This cannot be kept.", [problem], type(error).__name__)

    @app.exception_handler(OperationalError)
    @app.exception_handler(PoolTimeout)
    async def _database(_request: Request, _error: Exception) -> JSONResponse:
        return answer(
            503,
            "The database does not answer.",
            detail="What was answered before is kept. Start the database again (./start), then look whether the last "
            "step was kept as well before you repeat it.",
        )

    @app.exception_handler(ProgrammingError)
    async def _other_schema(request: Request, error: ProgrammingError) -> JSONResponse:
        if (problem := database_problem(error)) is None:
            return await _unforeseen(request, error)
        return answer(503, f"The database {problem.message}", detail=problem.way_out)

    @app.exception_handler(ClientDisconnect)
    async def _broken_off(_request: Request, _error: ClientDisconnect) -> JSONResponse:
        return answer(413, "This was too large, or broke off.")

    @app.exception_handler(Exception)
    async def _unforeseen(_request: Request, error: Exception) -> JSONResponse:
        log.exception("unforeseen", exc_info=error)
        return answer(500, "Fenrik failed here.", detail="It is written in the server's log. Please report it.")
