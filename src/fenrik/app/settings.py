"""Where the database is, and how people reach the server; everything else is in the database."""

from __future__ import annotations

import ipaddress
import os
from dataclasses import asdict, dataclass
from urllib.parse import urlsplit

DEFAULT_DATABASE = "postgresql://fenrik@127.0.0.1:54329/fenrik"
LOOPBACK = ("127.0.0.1", "localhost", "::1")


def database_url() -> str:
    """Connection string for psycopg (`FENRIK_DATABASE` in the environment overrides)."""
    return os.environ.get("FENRIK_DATABASE", DEFAULT_DATABASE)


def sqlalchemy_url() -> str:
    return database_url().replace("postgresql://", "postgresql+psycopg://", 1)


def task_memory_mb() -> float:
    """How much memory one task may take (`FENRIK_TASK_MEMORY_MB`); three quarters of the machine's where nothing is
    said."""
    given = os.environ.get("FENRIK_TASK_MEMORY_MB")
    return float(given) if given else 0.75 * os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 2**20


def desk_socket() -> str:
    """Where the server reaches its desk; empty: it works everything out itself."""
    return os.environ.get("FENRIK_DESK_SOCKET", "")


def is_desk() -> bool:
    """Whether this process is the desk of a server."""
    return bool(os.environ.get("FENRIK_IS_DESK"))


def metrics_token() -> str:
    """What scrapers of figures must send where others than this machine reach the server; empty: they get none."""
    return os.environ.get("FENRIK_METRICS_TOKEN", "")


@dataclass(frozen=True)
class Serving:
    """How people reach the server.

    Attributes:
        host: the address that it listens at. public_url: where a proxy in front of it is reached, if there is one.
        certificate: of its own TLS, if it has one.
    """

    host: str = "127.0.0.1"
    public_url: str = ""
    certificate: str = ""

    @classmethod
    def here(cls) -> Serving:
        """As `fenrik serve` was told."""
        given = {k: os.environ.get(f"FENRIK_{k.upper()}", "") for k in ("host", "public_url", "certificate")}
        return cls(given["host"] or cls.host, given["public_url"], given["certificate"])

    def tell(self) -> None:
        """Let `here` give this, in this process and in those that it starts."""
        os.environ |= {f"FENRIK_{k.upper()}": v for k, v in asdict(self).items()}

    def address(self, port: int) -> str:
        """Where people find it."""
        return self.public_url or f"{'https' if self.certificate else 'http'}://{self.host}:{port}"

    @property
    def on_loopback(self) -> bool:
        """Whether only this machine reaches it."""
        return is_loopback(self.host) and not self.public_url

    @property
    def secured(self) -> bool:
        """Whether people reach it by TLS."""
        return bool(self.certificate) or urlsplit(self.public_url).scheme == "https"

    def is_ours(self, authority: str) -> bool:
        """Whether a host (with its port, if any) as a browser names it is this server."""
        try:
            name = (urlsplit(f"//{authority}").hostname or "").lower()
        except ValueError:
            return False
        known = {*LOOPBACK, self.host.lower(), (urlsplit(self.public_url).hostname or "").lower()} - {""}
        return name in known or (self.host in ("0.0.0.0", "::") and not self.public_url and _is_address(name))


def is_loopback(host: str) -> bool:
    """Whether an address is reached from this machine alone."""
    if host in LOOPBACK:
        return True
    return _is_address(host) and ipaddress.ip_address(host).is_loopback


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True
