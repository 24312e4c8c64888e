"""Cutter against surface: tip heights, the region where a tool fits, distance to the part."""

from fenrik.core.contact.drop import DropIndex, DropStack, tip_heights, tip_heights_grid
from fenrik.core.contact.surface import Surface

__all__ = ["DropIndex", "DropStack", "Surface", "tip_heights", "tip_heights_grid"]
