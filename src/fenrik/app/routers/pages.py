"""The front end's files; any other address leads to its one page."""

from __future__ import annotations

import os
import secrets
from functools import cache
from pathlib import Path

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.exceptions import HTTPException

from fenrik.app.access.headers import policy_of_page, policy_of_script

WEB = Path(os.environ.get("FENRIK_WEB", Path(__file__).parents[4] / "web" / "dist"))
NONCE = "--nonce--"
"""Stands in the built page where the nonce of each answer belongs; see web/vite.config.ts."""
router = APIRouter(include_in_schema=False)


@router.get("/{path:path}")
def page(path: str) -> Response:
    if path.startswith("api/"):
        raise HTTPException(404, "There is no such address.")
    if path and (file := _file(path)) is not None:
        lasting = "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
        headers = {"cache-control": lasting}
        if file.suffix == ".js":
            headers["content-security-policy"] = policy_of_script()
        return FileResponse(file, headers=headers)
    nonce = secrets.token_urlsafe(16)
    headers = {"cache-control": "no-store", "content-security-policy": policy_of_page(nonce)}
    return HTMLResponse(_page().replace(NONCE, nonce), headers=headers)


def _file(path: str) -> Path | None:
    """A file of the front end; None where there is none of this name, however odd the name is."""
    try:
        file = (WEB / path).resolve()
        return file if file.is_relative_to(WEB.resolve()) and file.is_file() else None
    except (OSError, ValueError):
        return None


@cache
def _page() -> str:
    try:
        return (WEB / "index.html").read_text("utf-8")
    except OSError as error:
        raise HTTPException(404, "The front end is not built; run ./start.") from error
