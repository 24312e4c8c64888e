"""A database cluster of one's own that can be stopped and started at will, and a server in front of it."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import psutil
import psycopg

PATIENCE_S = 120.0


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


class Cluster:
    """PostgreSQL on a port of its own; root hands it to `postgres`, as PostgreSQL does not run as root."""

    def __init__(self, folder: Path, listen: str) -> None:
        self.port, self.listen = free_port(), listen
        self.folder = folder
        self.bin = max(Path("/usr/lib/postgresql").glob("*/bin"))
        self.owner = ["runuser", "-u", "postgres", "--"] if os.getuid() == 0 else []
        self.url = f"postgresql://fenrik@127.0.0.1:{self.port}/postgres"
        if self.owner:
            shutil.chown(folder, "postgres")
        self._run("initdb", "-U", "fenrik", "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8")
        self.start()

    def _run(self, program: str, *words: str) -> None:
        command = [*self.owner, str(self.bin / program), "-D", str(self.folder / "data"), *words]
        subprocess.run(command, check=True, cwd="/", stdout=subprocess.DEVNULL)

    def database(self, name: str) -> str:
        """A new database; gives its address."""
        command = [str(self.bin / "createdb"), "-h", "127.0.0.1", "-p", str(self.port), "-U", "fenrik", name]
        subprocess.run(command, check=True, cwd="/")
        return f"{self.url.rsplit('/', 1)[0]}/{name}"

    def ask_for_password(self, user: str, secret: str, network: str) -> None:
        """Let a user in from a network too, with a password."""
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(f"alter user {user} password '{secret}'")
        with (self.folder / "data" / "pg_hba.conf").open("a") as file:
            file.write(f"host all {user} {network} scram-sha-256\n")
        self._run("pg_ctl", "reload")

    def start(self) -> None:
        options = f"-p {self.port} -c listen_addresses={self.listen} -c unix_socket_directories="
        self._run("pg_ctl", "-w", "-t", "60", "-l", str(self.folder / "log"), "-o", options, "start")

    def stop(self) -> None:
        """As if the power went: no goodbye to anybody."""
        self._run("pg_ctl", "-w", "-m", "immediate", "stop")

    def close(self) -> None:
        """Stop it in order, so that nothing of it stays in shared memory."""
        self._run("pg_ctl", "-w", "-m", "fast", "stop")


@contextlib.contextmanager
def cluster(listen: str = "127.0.0.1") -> Iterator[Cluster]:
    """A new cluster, gone afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="fenrik-cluster-"))
    folder.chmod(0o755)
    made = Cluster(folder, listen)
    try:
        yield made
    finally:
        with contextlib.suppress(subprocess.CalledProcessError):
            made.close()
        shutil.rmtree(folder, ignore_errors=True)


class Server:
    """`fenrik serve` against a database, to be killed and started again."""

    def __init__(self, url: str, scheme: str = "http") -> None:
        self.environment = os.environ | {"FENRIK_DATABASE": url}
        self.port = free_port()
        self.address = f"{scheme}://127.0.0.1:{self.port}"

    def run(self, *words: str, **rest: Any) -> subprocess.CompletedProcess[str]:
        """Another command of Fenrik on the same database."""
        command = [sys.executable, "-m", "fenrik.cli", *words]
        return subprocess.run(command, env=self.environment, text=True, capture_output=True, timeout=120, **rest)

    def launch(self, *words: str) -> None:
        """Start it."""
        command = [sys.executable, "-m", "fenrik.cli", "serve", "--port", str(self.port), *words]
        self.process = subprocess.Popen(command, env=self.environment)

    def start(self, *words: str) -> None:
        """Start it, and wait until it answers."""
        self.launch(*words)
        end = time.monotonic() + PATIENCE_S
        while time.monotonic() < end:
            with contextlib.suppress(httpx.HTTPError):
                httpx.get(f"{self.address}/api/health", timeout=10, verify=False)
                return
            time.sleep(0.1)
        raise AssertionError(f"{self.address} does not answer")

    def family(self) -> list[psutil.Process]:
        """All processes below it."""
        with contextlib.suppress(psutil.NoSuchProcess):
            return psutil.Process(self.process.pid).children(recursive=True)
        return []

    def workers(self) -> list[psutil.Process]:
        return [p for p in self.family() if "worker" in words_of(p)]

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()

    def stop(self) -> None:
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(30)


@contextlib.contextmanager
def serving(*words: str) -> Iterator[tuple[Cluster, Server]]:
    """A server on a cluster of its own; both are gone afterwards."""
    with cluster() as made:
        server = Server(made.url)
        try:
            server.start("--migrate", *words)
            yield made, server
        finally:
            server.stop()


def words_of(process: psutil.Process) -> list[str]:
    """What a process was called with; nothing for one that has ended meanwhile."""
    try:
        return list(process.cmdline())
    except (psutil.NoSuchProcess, psutil.ZombieProcess):
        return []


def outliving(processes: list[psutil.Process], seconds: float) -> list[psutil.Process]:
    """Those that still run after so long.

    One that has ended but was not yet fetched by the machine's first process, which need not be quick at it or do it
    at all, holds nothing and is not among them.
    """

    def running(process: psutil.Process) -> bool:
        try:
            return bool(process.is_running() and process.status() != psutil.STATUS_ZOMBIE)
        except psutil.NoSuchProcess:
            return False

    end = time.monotonic() + seconds
    while (left := [p for p in processes if running(p)]) and time.monotonic() < end:
        time.sleep(0.1)
    return left


def until(condition: Any, seconds: float = PATIENCE_S) -> Any:
    """What the condition gives, once it gives something; connections that fail meanwhile are no matter."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        with contextlib.suppress(httpx.HTTPError):
            if found := condition():
                return found
        time.sleep(0.1)
    raise AssertionError("waited in vain")
