"""The command line: jobs, parts, the server."""

from __future__ import annotations

import argparse
import json
import sys
from importlib import import_module

from fenrik.core.errors import FenrikError, Problem

DONE, WRONG_JOB, FAULTS = 0, 1, 2
OF_THE_SERVER = ("serve", "worker", "desk", "migrate", "account", "backup", "restore", "clean", "openapi")
"""These begin without loading what computes: a worker is there a second after it was started."""


def main(arguments: list[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    words = sys.argv[1:] if arguments is None else arguments
    names = ["server"] if words[:1] and words[0] in OF_THE_SERVER else ["jobs", "parts", "server"]
    modules = [import_module(f"fenrik.cli.{name}") for name in names]
    parser = argparse.ArgumentParser(prog="fenrik", description="From a solid model to proven machine code.")
    commands = parser.add_subparsers(dest="command", required=True)
    for module in modules:
        module.add_commands(commands)
    options = parser.parse_args(arguments)
    try:
        return next(m.COMMANDS[options.command] for m in modules if options.command in m.COMMANDS)(options)
    except FenrikError as error:
        _print_problems(error.problems)
        return WRONG_JOB


def _print_problems(problems: list[Problem]) -> None:
    print(json.dumps({"problems": [p.as_dict() for p in problems]}, indent=2, default=str), file=sys.stderr)
