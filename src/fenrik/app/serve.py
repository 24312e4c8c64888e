"""Serve the application: the web server, its desk and its workers."""

from __future__ import annotations

import logging
import os
import signal
import socket
import sys
import tempfile
import threading
from importlib import import_module
from pathlib import Path

import uvicorn

from fenrik.app import ready
from fenrik.app.access.accounts import list_accounts
from fenrik.app.keeping import Keeper
from fenrik.app.logs import set_up_logs
from fenrik.app.settings import Serving
from fenrik.core.errors import fail
from fenrik.core.sources import is_warm

APPLICATION = "fenrik.app.main"
log = logging.getLogger(__name__)


def serve(serving: Serving, port: int, workers: int) -> int:
    """Run the server with its desk, and keep `workers` worker processes alive beside it."""
    set_up_logs()
    check_reach(serving)
    serving.tell()
    print(f"Fenrik answers at {serving.address(port)}", file=sys.stderr, flush=True)
    ready.begin()
    keeper = Keeper()
    os.environ["FENRIK_DESK_SOCKET"] = path = _socket(port)
    keeper.keep("desk", "desk", "--socket", path)
    places = [f"{socket.gethostname()} {port} {k + 1}" for k in range(workers)]
    warm_already = is_warm()
    if warm_already:
        _begin_work(keeper, places)
    # The page first: what compiles would make it wait.
    import_module(APPLICATION)
    if not warm_already:
        threading.Thread(target=_compile_and_begin, args=(keeper, places), daemon=True).start()
    # uvicorn raises the signal that stopped it once more; as an exception it lets the others be stopped too.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        uvicorn.run(
            f"{APPLICATION}:app",
            host=serving.host,
            port=port,
            log_config=None,
            access_log=False,
            server_header=False,
            ssl_certfile=serving.certificate or None,
            timeout_graceful_shutdown=3,
        )
    finally:
        keeper.close()
    return 0


def _socket(port: int) -> str:
    """Where the desk listens: in a folder that only this user can enter, the same at each start."""
    folder = Path(tempfile.gettempdir()) / f"fenrik-desk-{os.getuid()}"
    folder.mkdir(mode=0o700, exist_ok=True)
    if folder.stat().st_uid != os.getuid() or folder.stat().st_mode & 0o077:
        raise fail("desk", f"cannot listen in {folder}: others can enter it.", "Remove that folder.")
    return str(folder / f"{port}.sock")


def _begin_work(keeper: Keeper, places: list[str]) -> None:
    ready.done()
    for place in places:
        keeper.keep(f"worker {place}", "worker", "--name", place)


def _compile_and_begin(keeper: Keeper, places: list[str]) -> None:
    """Have the kernels compiled, then let workers begin."""
    from fenrik.core.warm import warm

    try:
        warm(ready.report)
    except Exception as error:  # What is not compiled now is when it is first used; workers must run all the same.
        log.exception("compiling ahead failed", exc_info=error)
    _begin_work(keeper, places)


def check_reach(serving: Serving) -> None:
    """Raise where others than this machine would reach a server that anybody could use, or listen to.

    Raises:
        FenrikError: with what to do.
    """
    if serving.on_loopback:
        return
    if not serving.secured:
        way_out = "Give --certificate FILE, or --public-url https://… of the proxy in front of it (docs/running.md)."
        raise fail("host", "is reached by others, who need TLS.", way_out, serving.host)
    if not any(a.role == "run" for a in list_accounts()):
        way_out = "Make one first: fenrik account add NAME --role run"
        raise fail("host", "is reached by others, but there is no account that runs the shop.", way_out, serving.host)
