"""Controllers: programs in neutral statements, written as text and read back."""

from fenrik.core.posting.arm_dialect import ArmDialect, load_arm_dialects
from fenrik.core.posting.arms import ArmController
from fenrik.core.posting.controller import Controller, ControllerState, ReadBack
from fenrik.core.posting.controllers import load_controllers
from fenrik.core.posting.dialect import Dialect, load_dialects
from fenrik.core.posting.reading import read_program, rows_of_lines
from fenrik.core.posting.words import WordController
from fenrik.core.posting.writing import Posted, PostedOperation, in_order, post_programs

__all__ = [
    "ArmController",
    "ArmDialect",
    "Controller",
    "ControllerState",
    "Dialect",
    "Posted",
    "PostedOperation",
    "ReadBack",
    "WordController",
    "in_order",
    "load_arm_dialects",
    "load_controllers",
    "load_dialects",
    "post_programs",
    "read_program",
    "rows_of_lines",
]
