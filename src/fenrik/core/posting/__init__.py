"""Controllers: write programs and read them back."""

from fenrik.core.posting.dialect import Dialect, load_dialects
from fenrik.core.posting.reading import ReadBack, read_program, rows_of_lines
from fenrik.core.posting.writing import PostedOperation, Program, post_programs

__all__ = [
    "Dialect",
    "PostedOperation",
    "Program",
    "ReadBack",
    "load_dialects",
    "post_programs",
    "read_program",
    "rows_of_lines",
]
