"""Fenrik: from a solid model to proven machine code."""

__version__ = "0.1.0"
