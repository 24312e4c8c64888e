"""Commands of the server: serve, work, bring the database up to date, accounts."""

from __future__ import annotations

import argparse
import getpass
import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, cast

from fenrik.app.access import ROLES, Role
from fenrik.cli.codes import DONE
from fenrik.core.errors import fail


def add_commands(commands: Any) -> None:
    """Put these commands beside the others."""
    serve = commands.add_parser("serve", help="serve the web application with its workers")
    serve.add_argument("--host", default="127.0.0.1", help="address to listen at; others than this machine need TLS")
    serve.add_argument("--port", type=int, default=8040)
    serve.add_argument("--public-url", default="", help="where a proxy in front of it is reached")
    serve.add_argument("--certificate", default="", help="PEM file of its own TLS certificate, with its key")
    serve.add_argument("--workers", type=int, default=1)
    serve.add_argument("--migrate", action="store_true", help="bring the database up to date first")
    serve.add_argument("--no-demo", action="store_true", help="with --migrate: leave an empty database empty")
    worker = commands.add_parser("worker", help="run one worker against the same database")
    worker.add_argument("--name", default="", help="under which it is known; that of the machine and process")
    worker.add_argument("--parent", type=int, default=None, help=argparse.SUPPRESS)
    desk = commands.add_parser("desk")  # what a server starts beside it; nobody else needs it
    desk.add_argument("--socket", required=True)
    desk.add_argument("--parent", type=int, default=None)
    migrate = commands.add_parser("migrate", help="bring the database up to date and load the demo if it is empty")
    migrate.add_argument("--no-demo", action="store_true", help="leave an empty database empty")
    for name, words in (
        ("backup", "write a copy of everything into one file, checked; the server may run meanwhile"),
        ("restore", "fill an empty database from such a copy"),
    ):
        commands.add_parser(name, help=words).add_argument("file", type=Path)
    commands.add_parser("clean", help="throw away results and models that nothing refers to")
    commands.add_parser("openapi", help="print the description of the HTTP interface")
    _add_account(commands.add_parser("account", help="who may sign in, and what for").add_subparsers(dest="act"))


def _add_account(acts: Any) -> None:
    acts.required = True
    add = acts.add_parser("add", help="make an account; asks for its password")
    role = acts.add_parser("role", help="give an account another role")
    password = acts.add_parser("password", help="give an account another password")
    remove = acts.add_parser("remove", help="remove an account; what it made stays")
    acts.add_parser("list", help="all accounts, as JSON")
    for one in (add, role, password, remove):
        one.add_argument("name")
    for one in (add, role):
        words = "look at jobs, program them too, or run the shop too (its library, its accounts)"
        one.add_argument("--role", choices=ROLES, required=True, help=words)
    for one in (add, password):
        one.add_argument("--password-stdin", action="store_true", help="read the password from standard input")


def _serve(options: argparse.Namespace) -> int:
    from fenrik.app.serve import serve
    from fenrik.app.settings import Serving

    if options.migrate:
        _migrate(options)
    return serve(Serving(options.host, options.public_url, options.certificate), options.port, options.workers)


def _worker(options: argparse.Namespace) -> int:
    from fenrik.app.work.worker import run_worker

    return run_worker(options.name, options.parent)


def _desk(options: argparse.Namespace) -> int:
    from fenrik.app.desk import run_desk

    return run_desk(options.socket, options.parent)


def _migrate(options: argparse.Namespace) -> int:
    from fenrik.app.migrate import migrate

    return migrate(demo=not options.no_demo)


def _backup(options: argparse.Namespace) -> int:
    from fenrik.app.backup import backup

    print(json.dumps(backup(options.file), indent=2))
    return DONE


def _restore(options: argparse.Namespace) -> int:
    from fenrik.app.backup import restore

    print(json.dumps(restore(options.file), indent=2))
    return DONE


def _clean(_options: argparse.Namespace) -> int:
    from fenrik.app.cleaning import clean

    print(json.dumps({"freed_bytes": clean()}))
    return DONE


def _openapi(_options: argparse.Namespace) -> int:
    from fenrik.app.main import app

    print(json.dumps(app.openapi(), indent=2))
    return DONE


def _account(options: argparse.Namespace) -> int:
    from fenrik.app.access import accounts

    role = cast(Role, getattr(options, "role", ""))
    if options.act == "add":
        accounts.add_account(options.name, role, _password(options))
    elif options.act == "role":
        accounts.set_role(options.name, role)
    elif options.act == "password":
        accounts.set_password(options.name, _password(options))
    elif options.act == "remove":
        accounts.remove_account(options.name)
    else:
        found = [{"name": a.name, "role": a.role, "made_at": a.made_at.isoformat()} for a in accounts.list_accounts()]
        print(json.dumps(found, indent=2))
    return DONE


def _password(options: argparse.Namespace) -> str:
    if options.password_stdin:
        return sys.stdin.readline().rstrip("\n")
    first = getpass.getpass("Password: ")
    if getpass.getpass("Once more: ") != first:
        raise fail("password", "was not the same twice.", "Type it again.")
    return first


COMMANDS: dict[str, Callable[[argparse.Namespace], int]] = {
    "serve": _serve,
    "worker": _worker,
    "desk": _desk,
    "migrate": _migrate,
    "backup": _backup,
    "restore": _restore,
    "clean": _clean,
    "openapi": _openapi,
    "account": _account,
}
