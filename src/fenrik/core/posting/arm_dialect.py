"""The language of an arm's control as a document: a line for each act, with places for its numbers.

A line is a text with fields in braces; what is written by it is read back by the same text. Fields are:
`name`, `number`, `rpm`, `size`, `feed`, `seconds`; `place` (x y z), `turns` (about the fixed x, y and z), `joints` (all
of them), `external` (turntable and track), `way` (shoulder, elbow and wrist, each 0 or 1) and `rounds` (whole turns of
each of the six joints beyond −180 to 180 degrees).
"""

from __future__ import annotations

import re
from functools import cached_property, lru_cache
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from fenrik.core.posting.dialect import documents_in

NUMBER = r"[-+]?\d+(?:\.\d*)?"
FIELDS = ("name", "number", "rpm", "size", "feed", "seconds", "place", "turns", "joints", "external", "way", "rounds")
COUNTS = {"number": "{0}", "rpm": "{0}", "size": "{0}", "feed": "{0}", "seconds": "{0}", "place": "{2}", "turns": "{2}"}
"""How many more numbers a field has than one; others have as many as there are joints or words."""
ACTS = ("frame", "tool", "spindle", "coolant", "blend", "swing", "line", "timed", "pause", "call", "end")
LINE = Field(min_length=1, max_length=200)


class ArmDialect(BaseModel):
    """How one kind of arm's control wants its programs."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=60)
    description: str = ""
    suffix: str = Field(default=".arm", pattern=r"^\.[a-z0-9]{1,8}$")
    says: Literal["poses", "joints"]
    mm_decimals: int = Field(default=3, ge=1, le=6)
    deg_decimals: int = Field(default=5, ge=1, le=8)
    separator: str = Field(default=" ", pattern=r"^[ ,;]$", description="between the numbers of a field")
    remark: str = Field(default="; ", min_length=1, max_length=10, description="begins a line that says nothing")
    most_lines: int = Field(default=5000, ge=100, le=1_000_000, description="of a file")
    begin: list[str] = Field(min_length=1, max_length=10, description="first lines; `name` may stand in them")
    frame: str = LINE
    tool: str = LINE
    spindle: str = LINE
    coolant: str = LINE
    blend: str = LINE
    swing: str = LINE
    line: str = LINE
    timed: str = LINE
    pause: str = LINE
    call: str = LINE
    end: str = LINE

    @field_validator(*ACTS)
    @classmethod
    def _knows_its_fields(cls, value: str) -> str:
        unknown = [f for f in re.findall(r"\{(.*?)\}", value) if f not in FIELDS]
        if unknown:
            raise ValueError(f"has a field {unknown[0]}, which there is not; the fields are {', '.join(FIELDS)}")
        return value

    @cached_property
    def patterns(self) -> dict[str, re.Pattern[str]]:
        """What each act looks like, its fields as groups."""
        return {act: re.compile(self._pattern(getattr(self, act))) for act in ACTS}

    @cached_property
    def beginnings(self) -> list[re.Pattern[str]]:
        return [re.compile(self._pattern(text)) for text in self.begin]

    def _pattern(self, text: str) -> str:
        sep = re.escape(self.separator)
        kinds = {"name": r"(?P<name>[A-Za-z0-9._-]+)"}
        parts = re.split(r"(\{.*?\})", text)
        found = []
        for part in parts:
            if part.startswith("{"):
                field = part[1:-1]
                more = COUNTS.get(field, "*")
                found.append(
                    kinds.get(field, rf"(?P<{field}>{NUMBER}(?:{sep}{NUMBER}){more}{'|' if more == '*' else ''})")
                )
            else:
                found.append(re.escape(part))
        return "".join(found) + r"\s*$"


@lru_cache(maxsize=1)
def load_arm_dialects() -> dict[str, ArmDialect]:
    """The languages of arms that come with Fenrik, by name."""
    return {d.name: d for d in documents_in("arm_dialects", ArmDialect)}
