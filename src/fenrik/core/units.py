"""Units at the edges: numbers as people type them, turned into mm, mm/min and degrees.

Core works in mm; inches exist only here. The conversion factors are those of `pint`.
"""

from __future__ import annotations

import ast
import operator
import re
from collections.abc import Callable
from fractions import Fraction
from functools import lru_cache
from typing import TYPE_CHECKING

from fenrik.core.errors import fail

if TYPE_CHECKING:
    import pint

MM_PER_INCH = 25.4
LEAST_STEP_MM = 0.001
"""The least step, depth or tolerance that is asked of a machine: below it passes would have no end."""
LEAST_SPINDLE_RPM = 1.0
LEAST_FEED_MM_MIN = 0.1
"""Slower than these a program says S0 or F0."""

_BASE = {"length": "mm", "feed": "mm/min", "angle": "degree", "speed": "m/min", "none": ""}
_UNIT_WORD = re.compile(r"(?<=[\d.)])\s*(\"|in/min|ipm|in\b|mm/min|mm\b|cm\b|m/min|m\b|µm|um\b|ft/min|sfm|deg|°|rad\b)")
_ALIAS = {
    '"': "in",
    "ipm": "in/min",
    "sfm": "ft/min",
    "um": "micrometer",
    "µm": "micrometer",
    "°": "degree",
    "deg": "degree",
}
_OPERATORS: dict[type[ast.AST], Callable[..., Fraction]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.USub: operator.neg,
    ast.UAdd: operator.pos,
}


@lru_cache(maxsize=1)
def _registry() -> pint.UnitRegistry:
    import pint  # half a second of every start, for what is typed now and then

    return pint.UnitRegistry()


@lru_cache(maxsize=64)
def factor(unit: str, quantity: str) -> float:
    """How many base units (mm, mm/min, deg, m/min) one `unit` is."""
    return float(_registry().Quantity(1.0, unit).to(_BASE[quantity]).magnitude)


def parse_number(text: str, quantity: str = "length") -> float:
    """Read `12.5`, `=3*4+1`, `3/8in`, `1in + 2mm` as a number in the base unit of `quantity`.

    Arithmetic is exact (fractions) until the last step; only + - * / and brackets are understood,
    nothing is ever executed.

    Raises:
        FenrikError: naming the text, when it is not arithmetic or its unit does not fit.
    """
    import pint

    body = text.strip().removeprefix("=").strip()
    if len(body) > 200:
        raise fail("number", "is longer than 200 characters.", "Type a shorter one.")

    def as_factor(match: re.Match[str]) -> str:
        unit = _ALIAS.get(match.group(1), match.group(1))
        try:
            return f"*{factor(unit, quantity)!r}"
        except (pint.DimensionalityError, pint.UndefinedUnitError) as error:
            raise fail("number", f"{unit} is not a unit of {quantity}.", f"Use {_BASE[quantity]}.", text) from error

    # A unit binds to the whole fraction before it: 3/8in is three eighths of an inch.
    expression = _UNIT_WORD.sub(as_factor, body.replace(",", "."))
    try:
        return float(_evaluate(ast.parse(expression, mode="eval").body))
    except (SyntaxError, ValueError, ArithmeticError, RecursionError, MemoryError) as error:
        raise fail("number", "is not a number or arithmetic.", "Type for example 12.5 or 3/8in.", text) from error


def _evaluate(node: ast.AST) -> Fraction:
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float) and not isinstance(node.value, bool):
        return Fraction(str(node.value))
    if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
        return _OPERATORS[type(node.op)](_evaluate(node.left), _evaluate(node.right))
    if isinstance(node, ast.UnaryOp) and type(node.op) in _OPERATORS:
        return _OPERATORS[type(node.op)](_evaluate(node.operand))
    raise ValueError("not arithmetic")
