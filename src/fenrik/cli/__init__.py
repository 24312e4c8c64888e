"""The command line: jobs, parts, the server."""

from __future__ import annotations

import argparse
import json
import sys
from importlib import import_module
from types import ModuleType

from fenrik.cli import server
from fenrik.cli.codes import DONE, FAULTS, WRONG_JOB
from fenrik.core.errors import FenrikError, Problem

__all__ = ["DONE", "FAULTS", "WRONG_JOB", "main"]


def main(arguments: list[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    words = sys.argv[1:] if arguments is None else arguments
    modules: list[ModuleType] = [server]
    # Commands of the server load nothing that computes: a worker is there a second after it was started.
    if words[:1] == [] or words[0] not in server.COMMANDS:
        modules[:0] = [import_module("fenrik.cli.jobs"), import_module("fenrik.cli.parts")]
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
    except Exception as error:
        from fenrik.app.outage import database_problem  # jobs and parts need no database, nor what speaks to one

        if (problem := database_problem(error)) is None:
            raise
        _print_problems([problem])
        return WRONG_JOB


def _print_problems(problems: list[Problem]) -> None:
    print(json.dumps({"problems": [p.as_dict() for p in problems]}, indent=2, default=str), file=sys.stderr)
