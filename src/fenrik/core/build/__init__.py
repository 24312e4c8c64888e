"""What depends on what: artefacts, their keys, and how each is made."""

from fenrik.core.build.build import Build
from fenrik.core.build.geometry import Geometry

__all__ = ["Build", "Geometry"]
