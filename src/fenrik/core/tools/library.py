"""Tool lists as files (JSON, CSV), searching them, and the difference between two tools."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable
from typing import Any

from pydantic import ValidationError

from fenrik.core.errors import FenrikError, Problem, fail
from fenrik.core.tools.model import Tool

MAX_TOOLS = 5000
MAX_COLUMNS = 200
_LISTS = ("holder", "cutter.places")
_TEXTS = ("name", "coating", "holder_name", "material", "use", "cutter.kind", "cutter.thread")


def tools_to_json(tools: Iterable[Tool]) -> str:
    """A tool list as JSON; `tools_from_json` reads it back unchanged."""
    return json.dumps({"tools": [t.model_dump(mode="json", exclude_none=True) for t in tools]}, indent=2)


def tools_from_json(text: str | bytes) -> list[Tool]:
    """Read a tool list.

    Raises:
        FenrikError: naming the tool and the field that is wrong.
    """
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise fail("tools", f"is not JSON: {error}.", "Choose a file made by Export.") from error
    rows = data.get("tools") if isinstance(data, dict) else data
    if not isinstance(rows, list):
        raise fail("tools", "holds no list of tools.", "Choose a file made by Export.")
    return _validated(rows, "tools")


def tools_to_csv(tools: Iterable[Tool]) -> str:
    """A tool list as CSV with a column for each field that any of them has; lists stand in their cells as JSON."""
    rows = [_flat(t.model_dump(mode="json", exclude_none=True)) for t in tools]
    columns = list(dict.fromkeys(k for row in rows for k in row))
    stream = io.StringIO()
    writer = csv.DictWriter(stream, columns, lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return stream.getvalue()


def tools_from_csv(text: str) -> list[Tool]:
    """Read a tool list from CSV as `tools_to_csv` writes it; empty cells take their defaults.

    Raises:
        FenrikError: naming the row and the column that is wrong.
    """
    sample = text[:4096]
    delimiter = ";" if sample.count(";") > sample.count(",") else ","
    rows = []
    try:
        lines = csv.reader(io.StringIO(text.lstrip("\ufeff"), newline=""), delimiter=delimiter)
        columns = next(lines, [])
        if len(columns) > MAX_COLUMNS:
            raise fail("tools", f"has more than {MAX_COLUMNS} columns.", "Keep the columns of an exported list.")
        for k, cells in enumerate(line for line in lines if line):
            if k >= MAX_TOOLS:
                raise fail("tools", f"holds more than {MAX_TOOLS} rows.", "Split the file.")
            if len(cells) > len(columns):
                raise fail(f"row {k + 2}", "has more cells than the first row has columns.", "Mend this row.")
            rows.append(_nested({c: v for c, v in zip(columns, cells, strict=False) if v}, k + 2))
    except csv.Error as error:
        raise fail("tools", f"cannot be read as CSV: {error}.", "Write it again as CSV.") from error
    if not rows:
        raise fail("tools", "holds no rows below its first.", "Write the columns in the first row, tools below.")
    return _validated(rows, "row")


def _flat(data: dict[str, Any], prefix: str = "") -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key, value in data.items():
        if isinstance(value, dict):
            found |= _flat(value, f"{prefix}{key}.")
        else:
            found[prefix + key] = json.dumps(value) if isinstance(value, list) else value
    return found


def _nested(cells: dict[str, str], row: int) -> dict[str, Any]:
    data: dict[str, Any] = {}
    for column, text in cells.items():
        *path, last = column.strip().split(".")
        here = data
        for name in path:
            here = here.setdefault(name, {})
            if not isinstance(here, dict):
                raise fail(f"row {row}, {column}", f"needs {name} to have no value of its own.", "Drop one column.")
        try:
            here[last] = text if column in _TEXTS else json.loads(text) if column in _LISTS else _cell(text)
        except (ValueError, RecursionError) as error:
            raise fail(f"row {row}, {column}", "is not a list.", "Write it as JSON.", text) from error
    return data


def _cell(text: str) -> Any:
    plain = text.strip()
    if plain in ("True", "False", "true", "false"):
        return plain.lower() == "true"
    try:
        return int(plain)
    except ValueError:
        try:
            return float(plain.replace(",", "."))
        except ValueError:
            return plain


def _validated(rows: list[Any], what: str) -> list[Tool]:
    if len(rows) > MAX_TOOLS:
        raise fail("tools", f"holds more than {MAX_TOOLS} tools.", "Split the file.")
    tools, problems = [], []
    for k, row in enumerate(rows):
        place = f"row {k + 2}" if what == "row" else f"tools.{k}"
        try:
            tools.append(Tool.model_validate(row))
        except ValidationError as error:
            for e in error.errors()[:3]:
                field = ".".join(str(p) for p in e["loc"])
                message = e["msg"].removeprefix("Value error, ")
                problems.append(Problem(f"{place} {field}".strip(), f"{message}.", "Correct this tool.", None))
    if problems:
        raise FenrikError(*problems[:20])
    return tools


def find_tools(
    tools: Iterable[Tool],
    words: str = "",
    kind: str = "",
    smallest_mm: float = 0.0,
    largest_mm: float = float("inf"),
    use: str = "",
) -> list[Tool]:
    """Tools by words of their name, kind of cutter, diameter and use."""
    wanted = words.lower().split()
    return [
        t
        for t in tools
        if all(w in f"{t.number} {t.label} {t.cutter.kind} {t.coating} {t.holder_name}".lower() for w in wanted)
        and (not kind or t.cutter.kind == kind)
        and smallest_mm - 1e-9 <= t.cutter.diameter_mm <= largest_mm + 1e-9
        and (not use or t.use in (use, "both"))
    ]


def tool_difference(a: Tool, b: Tool) -> list[tuple[str, Any, Any]]:
    """Fields in which two tools differ, with both values; the number does not count."""
    one, other = (_flat(t.model_dump(mode="json")) for t in (a, b))
    fields = dict.fromkeys([*one, *other])
    return [(f, one.get(f), other.get(f)) for f in fields if f != "number" and one.get(f) != other.get(f)]
