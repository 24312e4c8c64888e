"""What a strategy says of itself, once, in its own file: all that menus, forms, keys and checks must know of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, get_args

from pydantic import TypeAdapter

from fenrik.core.sources import kernels_behind
from fenrik.core.strategies.common import CommonParams, Outcome
from fenrik.core.strategies.given import ON_PICKED, Need
from fenrik.core.strategies.targets import TARGET_KINDS
from fenrik.core.tools import Cutter

Group = Literal["Faces and pockets", "Holes", "Edges and marks", "Free shapes", "Leaning tool", "Read in"]
"""Groups of the menu, in its order."""
LAST_IN_HOLE = 4

Makes = Literal["what is picked", "all from above", "the top", "far bores", "nothing"]
"""What is finished when an operation is done, for saying what is left over."""

Duty = Literal["level", "upright", "leaning", "slope", "hole", "mouth", "edge"]
"""How a place of the surface lies to the tool's axis, or what it belongs to; for saying which rows finish it."""

THREAD_SHARE = 0.65
MILLS = (
    "flat", "bull-nose", "ball", "face mill", "tapered", "barrel", "chamfer mill", "engraving", "own contour",
)  # fmt: skip
"""Cutters that work with their sides and can be lifted off anywhere."""
UNDERCUTTING = ("slotting cutter", "lollipop", "dovetail")
"""Cutters that stand under what they leave: for ways that end beside the work."""


def mills(*preferred: str, without: tuple[str, ...] = ()) -> tuple[str, ...]:
    """All mills, some of them first, but for those that do not suit."""
    return (*preferred, *(kind for kind in MILLS if kind not in (*preferred, *without)))


def _nothing(params: Any, cutter: Cutter) -> float:
    return 0.0


def thread_depth(params: Any, cutter: Cutter) -> float:
    """Depth of a thread beyond its tap drill; a little over the 0.6134 of the pitch of ISO 724."""
    return THREAD_SHARE * float(getattr(cutter, "pitch_mm", 0.0))


def _what_is_picked(params: Any) -> Makes:
    return "what is picked"


def _no_duty(params: Any) -> tuple[Duty, ...]:
    return ()


def _last(params: Any) -> int:
    return LAST_IN_HOLE


@dataclass(frozen=True)
class Strategy:
    """One way in which an operation makes its path.

    Attributes:
        params: its parameters; the name is the default of their field `strategy`, the first line of their docstring
            what it is for.
        run: makes the path.
        version: raised when the path that it makes changes.
        group: where it stands in the menu.
        cutters: kinds that it takes, those that suit it best first.
        needs: what it looks at, and so what its path goes out of date with (see `given.py`).
        sees: faces that its path may depend on: those that can be seen along the tool axis, or all.
        stage: when it is due among the rows of a setup, from 0 (before all) to 7 (at the end).
        everywhere: whether it may touch any part of the workpiece, so that no other row may overtake it.
        in_hole: its turn among rows on one hole, from 0 (spotting) on.
        feeds_by_load: whether its feeds follow from the engagement, on arcs as well, so that nobody else changes them.
        skims: whether stretches of it that take nothing may be gone over fast.
        makes: what is finished when it is done. finishes: of that, the places that lie so.
        left_to: the strategy that takes with a smaller tool what it leaves; none where nothing is left to one.
        fresh: what a row that is added by hand begins with, beyond the defaults. of_diameter: lengths among them, as
            shares of the tool's diameter.
        meant_depth_mm: how far it goes into the model on purpose (threads, broken edges, engraving).
    """

    params: type[CommonParams]
    run: Callable[..., Outcome]
    version: int
    group: Group
    cutters: tuple[str, ...]
    needs: tuple[Need, ...] = ON_PICKED
    sees: Literal["from above", "all"] = "from above"
    meant_depth_mm: Callable[[Any, Cutter], float] = _nothing
    stage: int = 5
    everywhere: bool = False
    in_hole: Callable[[Any], int] = _last
    feeds_by_load: bool = False
    skims: bool = False
    makes: Callable[[Any], Makes] = _what_is_picked
    finishes: Callable[[Any], tuple[Duty, ...]] = _no_duty
    left_to: str = ""
    fresh: Mapping[str, Any] = field(default_factory=dict)
    of_diameter: Mapping[str, float] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return str(self.params.model_fields["strategy"].default)

    @property
    def for_holes(self) -> bool:
        return self.group == "Holes"

    @property
    def order(self) -> int:
        """Place of its group in the menu."""
        return get_args(Group).index(self.group)

    @property
    def code(self) -> str:
        """Hash of the kernels that it can run; with the version it stands for its code in keys."""
        return kernels_behind(self.params.__module__)

    @property
    def folded(self) -> list[str]:
        """Parameters that forms show only when asked: what `FOLDED` of each class of parameters names."""
        return [name for c in self.params.__mro__ for name in vars(c).get("FOLDED", ())]

    @property
    def takes(self) -> list[str]:
        """Kinds of geometry that it can be applied to."""
        if "targets" not in self.params.model_fields:
            return []
        models = TypeAdapter(list[self.params]).json_schema()["$defs"].values()  # type: ignore[name-defined]
        kinds = {m.get("properties", {}).get("kind", {}).get("const") for m in models}
        return [kind for kind in TARGET_KINDS if kind in kinds]

    def says(self) -> dict[str, Any]:
        """What forms and menus are told, in the schema of its parameters."""
        return {
            "group": self.group,
            "left_to": self.left_to,
            "order": self.order,
            "cutters": list(self.cutters),
            "fresh": dict(self.fresh),
            "of_diameter": dict(self.of_diameter),
            "folded": self.folded,
            "takes": self.takes,
        }
