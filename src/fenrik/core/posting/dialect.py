"""A controller's dialect is a document: number formats, modal rules, and blocks as sandboxed templates."""

from __future__ import annotations

import re
from functools import lru_cache
from importlib import resources
from typing import Any, Literal, TypeVar

from jinja2 import StrictUndefined, Template, TemplateError, TemplateSyntaxError, nodes
from jinja2.sandbox import ImmutableSandboxedEnvironment, SecurityError
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from fenrik.core.errors import fail

MAX_BLOCK_CHARS = 4000
Document = TypeVar("Document", bound=BaseModel)
Block = Literal["start", "tools", "away", "tool_change", "operation", "lift", "lean", "first_move", "end"]


class LineNumbers(BaseModel):
    model_config = ConfigDict(extra="forbid")
    start: int = Field(default=10, ge=0)
    step: int = Field(default=10, ge=1)
    wrap_at: int = Field(default=99_990, ge=10)


class Dialect(BaseModel):
    """How one kind of controller wants its programs.

    The block templates may use `program`, `setup`, `tool`, `next_tool` (none where no change follows), `operation`,
    `x`, `y`, `z`, `turn` (already formatted) and the filter `words` that makes any text safe inside a comment.
    """

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=60)
    description: str = ""
    suffix: str = Field(default=".nc", pattern=r"^\.[a-z0-9]{1,8}$")
    units: Literal["mm", "inch"] = "mm"
    decimals: int = Field(default=3, ge=1, le=6)
    feed_decimals: int = Field(default=0, ge=0, le=4)
    trailing_zeros: bool = Field(default=False, description="write 5.000 and not 5.")
    separator: Literal["", " "] = " "
    modal_motion: bool = Field(default=True, description="leave out G1 and its like where they repeat")
    modal_axes: bool = Field(default=True, description="leave out axis words that do not change")
    arcs: Literal["centre", "radius", "lines"] = "centre"
    line_numbers: LineNumbers | None = None
    program_for_each_tool: bool = False
    extended_offset: str = Field(
        default="",
        max_length=40,
        description="words for offsets beyond G59, `{number}` counts from 1; empty: it has none",
    )
    cycles: list[int] = Field(
        default=[], max_length=20, description="canned cycles it has, by word: 81 82 83 73 84 74 85 86 87 89"
    )
    turns: Literal["", "tip", "joints"] = Field(
        default="",
        description="rotary joints: it has none; it holds the tip on its line while they turn; or each joint is told",
    )
    tip_on: str = Field(default="", max_length=40, description="begins holding the tip; {offset} is the tool's length")
    tip_off: str = Field(default="", max_length=40, description="ends holding the tip")
    inverse_time: bool = Field(default=False, description="G93: motions that turn the tool by their time")
    orient: str = Field(default="", max_length=40, description="stops the spindle in its place; empty: it cannot")
    dwell: str = Field(default="G4 P{seconds}", max_length=40, description="a pause in seconds")
    start: list[str] = []
    tools: list[str] = Field(default=[], description="after the start, once for each tool")
    away: list[str] = Field(
        default=[], description="spindle and coolant off, the tool to its place of the machine: before changes and end"
    )
    tool_change: list[str] = []
    operation: list[str] = []
    first_move: list[str]
    lift: list[str] = Field(
        default=["G91 G28 Z0", "G90"], description="the tool to its highest place, for rotary joints to turn"
    )
    lean: list[str] = Field(
        default=[], description="before the first move of a row whose tool leans; `turn` are its rotary words"
    )
    end: list[str]

    @model_validator(mode="after")
    def _can_hold_the_tip(self) -> Dialect:
        if self.turns == "tip" and not (self.tip_on and self.tip_off):
            raise ValueError("holds the tip, but has no words that begin and end it; give tip_on and tip_off")
        return self

    @field_validator("start", "tools", "away", "tool_change", "operation", "lift", "lean", "first_move", "end")
    @classmethod
    def _not_huge(cls, lines: list[str]) -> list[str]:
        if sum(len(line) for line in lines) > MAX_BLOCK_CHARS:
            raise ValueError(f"is longer than {MAX_BLOCK_CHARS} characters; shorten the block")
        return lines

    @property
    def unit_mm(self) -> float:
        return 25.4 if self.units == "inch" else 1.0

    @property
    def resolution_mm(self) -> float:
        """Size of the last digit of a coordinate."""
        return self.unit_mm * 10.0**-self.decimals

    def number(self, value_mm: float) -> str:
        """A coordinate as this controller writes it."""
        return format_number(round(value_mm / self.resolution_mm), self.decimals, self.trailing_zeros)

    def offset_words(self, work_offset: int) -> str:
        """The words that call a work offset: 54 to 59, or 100 + number for the extended ones.

        Raises:
            FenrikError: when this controller has no extended offsets.
        """
        if work_offset < 100:
            return f"G{work_offset}"
        if not self.extended_offset:
            raise fail(
                "work_offset", f"is an extended one, which {self.name} does not have.", "Use G54 to G59.", work_offset
            )
        return self.extended_offset.replace("{number}", str(work_offset - 100))

    def block(self, name: Block, **values: Any) -> list[str]:
        """Lines of a block filled with values; empty lines are left out.

        Raises:
            FenrikError: when a template is wrong or reaches for what it may not have.
        """
        lines = []
        for text in getattr(self, name):
            try:
                line = _template(text).render(**values)
            except _WRONG as error:
                raise fail(
                    f"dialect.{name}", f"cannot be filled in: {error}.", "Mend this line of the dialect.", text
                ) from error
            if len(line) > MAX_BLOCK_CHARS or "\n" in line or "\r" in line:
                raise fail(f"dialect.{name}", "makes more than one line.", "Give each line an entry of its own.", text)
            if line.strip():
                lines.append(line.strip())
        return lines


def safe_words(text: object) -> str:
    """Text that may stand in a comment of a program: printable ASCII without brackets or control marks."""
    plain = str(text).encode("ascii", "replace").decode()
    return re.sub(r"[^A-Za-z0-9 .,:+/_#=*-]", " ", plain)[:80].strip()


_WRONG = (
    TemplateError,
    TypeError,
    ValueError,
    AttributeError,
    ArithmeticError,
    MemoryError,
    RecursionError,
    SyntaxError,
)
"""What a template can raise when it is read or filled in."""
_UNDERSTOOD = (
    nodes.Template,
    nodes.Output,
    nodes.TemplateData,
    nodes.Const,
    nodes.Name,
    nodes.Getattr,
    nodes.Filter,
    nodes.Keyword,
    nodes.If,
    nodes.CondExpr,
    nodes.Compare,
    nodes.Operand,
    nodes.And,
    nodes.Or,
    nodes.Not,
    nodes.Neg,
    nodes.Add,
    nodes.Sub,
    nodes.Mul,
    nodes.Div,
    nodes.FloorDiv,
    nodes.Concat,
)
"""What a line of a dialect is made of: values, filters, choices, plain arithmetic. No loops, no calls: each line takes
its own length in time and memory, and no more."""


class _Sandbox(ImmutableSandboxedEnvironment):
    """No way out to the system, and no arithmetic that could eat the memory."""

    intercepted_binops = frozenset(["+", "*"])

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        if not all(isinstance(v, int | float) and abs(v) < 1e12 for v in (left, right)):
            raise SecurityError("only plain numbers can be added and multiplied; ~ joins texts")
        return super().call_binop(context, operator, left, right)


@lru_cache(maxsize=1)
def _environment() -> ImmutableSandboxedEnvironment:
    environment = _Sandbox(undefined=StrictUndefined, autoescape=False)
    environment.filters = {k: environment.filters[k] for k in ("round", "int", "upper", "lower", "default", "abs")}
    environment.filters["words"] = safe_words
    environment.globals = {}
    return environment


@lru_cache(maxsize=256)
def _template(text: str) -> Template:
    """A line of a dialect, compiled once.

    Raises:
        TemplateError: also for what is not `_UNDERSTOOD`.
    """
    tree = _environment().parse(text)
    for node in tree.find_all(nodes.Node):
        if not isinstance(node, _UNDERSTOOD):
            raise TemplateSyntaxError(f"{type(node).__name__.lower()} is not understood in a dialect", node.lineno)
    return _environment().from_string(tree)


def format_number(units: int, decimals: int, trailing_zeros: bool) -> str:
    """`units` of the last digit as a decimal number: 12500 with 3 decimals is 12.5 or 12.500."""
    sign = "-" if units < 0 else ""
    whole, rest = divmod(abs(units), 10**decimals)
    digits = f"{rest:0{decimals}d}" if decimals else ""
    if not trailing_zeros:
        digits = digits.rstrip("0")
    return f"{sign}{whole}.{digits}" if decimals else f"{sign}{whole}"


@lru_cache(maxsize=1)
def load_dialects() -> dict[str, Dialect]:
    """The dialects that come with Fenrik, by name."""
    return {d.name: d for d in documents_in("dialects", Dialect)}


def documents_in(folder: str, kind: type[Document]) -> list[Document]:
    """The documents of a kind that are shipped in a folder beside this file, in the order of their names."""
    files = sorted(resources.files("fenrik.core.posting").joinpath(folder).iterdir(), key=lambda f: f.name)
    return [kind.model_validate_json(f.read_text("utf-8")) for f in files if f.name.endswith(".json")]
