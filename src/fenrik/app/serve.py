"""Serve the application: the web server, its workers, and the watch over both."""

from __future__ import annotations

import logging
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from importlib import import_module

import uvicorn

from fenrik.app import ready
from fenrik.app.access.accounts import list_accounts
from fenrik.app.logs import set_up_logs
from fenrik.app.settings import Serving
from fenrik.core.errors import fail
from fenrik.core.warm import warm

APPLICATION = "fenrik.app.main"
CHECK_EVERY_S = 0.5
log = logging.getLogger(__name__)


def serve(serving: Serving, port: int, workers: int) -> int:
    """Run the server and keep `workers` worker processes alive beside it."""
    set_up_logs()
    check_reach(serving)
    serving.tell()
    host = serving.host
    print(f"Fenrik answers at http://{host}:{port}", file=sys.stderr, flush=True)
    stop = threading.Event()
    ready.begin()
    # The page first: workers that load the same modules at the same time would make it wait.
    import_module(APPLICATION)
    keeper = threading.Thread(target=_keep_workers, args=(f"{socket.gethostname()} {port}", workers, stop), daemon=True)
    keeper.start()
    # uvicorn raises the signal that stopped it once more; as an exception it lets the workers be stopped too.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        uvicorn.run(
            f"{APPLICATION}:app",
            host=host,
            port=port,
            log_config=None,
            access_log=False,
            server_header=False,
            ssl_certfile=serving.certificate or None,
            timeout_graceful_shutdown=3,
        )
    finally:
        stop.set()
        keeper.join(timeout=10)
    return 0


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


def _keep_workers(name: str, count: int, stop: threading.Event) -> None:
    """Have the kernels compiled, then start workers, and start them again when they die."""
    try:
        warm(ready.report)
    except Exception as error:  # What is not compiled now is when it is first used; workers must run all the same.
        log.exception("compiling ahead failed", exc_info=error)
    finally:
        ready.done()
    running: dict[str, subprocess.Popen[bytes]] = {}
    while not stop.is_set():
        for place in (f"{name} {k + 1}" for k in range(count)):
            if place not in running or running[place].poll() is not None:
                words = ["worker", "--name", place, "--parent", str(os.getpid())]
                running[place] = subprocess.Popen([sys.executable, "-m", "fenrik.cli", *words])
        stop.wait(CHECK_EVERY_S)
    for process in running.values():
        process.terminate()
    deadline = time.monotonic() + 5
    for process in running.values():
        try:
            process.wait(max(deadline - time.monotonic(), 0.1))
        except subprocess.TimeoutExpired:
            process.kill()
