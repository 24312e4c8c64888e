"""Controllers: programs in neutral statements, written as text and read back."""

from fenrik.core.posting.controller import Controller, ControllerState, ReadBack
from fenrik.core.posting.dialect import Dialect, load_dialects
from fenrik.core.posting.reading import read_program, rows_of_lines
from fenrik.core.posting.words import WordController, load_controllers
from fenrik.core.posting.writing import Posted, PostedOperation, post_programs

__all__ = [
    "Controller",
    "ControllerState",
    "Dialect",
    "Posted",
    "PostedOperation",
    "ReadBack",
    "WordController",
    "load_controllers",
    "load_dialects",
    "post_programs",
    "read_program",
    "rows_of_lines",
]
