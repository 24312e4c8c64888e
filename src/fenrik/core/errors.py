"""The one error type that reaches people: what happened, where, and the way out."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any


@dataclass(frozen=True)
class Problem:
    """One thing that is wrong: the field, its value, what is the matter and what to do."""

    field: str
    message: str
    way_out: str = ""
    value: Any = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)

    def __str__(self) -> str:
        shown = "" if self.value is None else f" (is {self.value!r})"
        return f"{self.field}{shown}: {self.message} {self.way_out}".strip()


class FenrikError(Exception):
    """An error that carries problems a person can act on."""

    def __init__(self, *problems: Problem) -> None:
        self.problems = list(problems)
        super().__init__("; ".join(str(p) for p in problems))


def fail(field: str, message: str, way_out: str = "", value: Any = None) -> FenrikError:
    """Build a `FenrikError` with one problem; written as `raise fail(...)`."""
    return FenrikError(Problem(field, message, way_out, value))
