"""Cutters, a file each: the numbers that people know one by, the rules that tie them, and its contour."""

from typing import Annotated

from pydantic import Field

from fenrik.core.tools.cutters.back_boring_bar import BackBoringBar
from fenrik.core.tools.cutters.ball import BallCutter
from fenrik.core.tools.cutters.barrel import BarrelCutter
from fenrik.core.tools.cutters.boring_head import BoringHead
from fenrik.core.tools.cutters.bull_nose import BullNoseCutter
from fenrik.core.tools.cutters.centre_drill import CentreDrill
from fenrik.core.tools.cutters.chamfer_mill import ChamferMill
from fenrik.core.tools.cutters.dovetail import DovetailCutter
from fenrik.core.tools.cutters.drill import Drill
from fenrik.core.tools.cutters.engraving import EngravingCutter
from fenrik.core.tools.cutters.face_mill import FaceMill
from fenrik.core.tools.cutters.flat import FlatCutter
from fenrik.core.tools.cutters.lollipop import Lollipop
from fenrik.core.tools.cutters.own_contour import ContourCutter
from fenrik.core.tools.cutters.reamer import Reamer
from fenrik.core.tools.cutters.slotting import SlottingCutter
from fenrik.core.tools.cutters.spot_drill import SpotDrill
from fenrik.core.tools.cutters.tap import Tap
from fenrik.core.tools.cutters.tapered import TaperedCutter
from fenrik.core.tools.cutters.thread_mill import ThreadMill

Cutter = Annotated[
    FlatCutter
    | BallCutter
    | BullNoseCutter
    | FaceMill
    | ChamferMill
    | Drill
    | SpotDrill
    | CentreDrill
    | Reamer
    | Tap
    | ThreadMill
    | SlottingCutter
    | Lollipop
    | TaperedCutter
    | BarrelCutter
    | DovetailCutter
    | EngravingCutter
    | BoringHead
    | BackBoringBar
    | ContourCutter,
    Field(discriminator="kind"),
]
"""Any of them, in the order of the menu."""

__all__ = [
    "BackBoringBar",
    "BallCutter",
    "BarrelCutter",
    "BoringHead",
    "BullNoseCutter",
    "CentreDrill",
    "ChamferMill",
    "ContourCutter",
    "Cutter",
    "DovetailCutter",
    "Drill",
    "EngravingCutter",
    "FaceMill",
    "FlatCutter",
    "Lollipop",
    "Reamer",
    "SlottingCutter",
    "SpotDrill",
    "Tap",
    "TaperedCutter",
    "ThreadMill",
]
