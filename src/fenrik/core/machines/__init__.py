"""Machines: what they can do."""

from fenrik.core.machines.model import Machine

__all__ = ["Machine"]
