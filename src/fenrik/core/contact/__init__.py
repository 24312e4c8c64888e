"""Cutter against surface: tip heights, the region where a tool fits, distance to the part."""

from fenrik.core.contact.drop import DropIndex, tip_heights, tip_heights_grid

__all__ = ["DropIndex", "tip_heights", "tip_heights_grid"]
