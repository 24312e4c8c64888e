"""Machines: what they can do, and where their joints put the tool."""

from fenrik.core.machines.chain import Chain, Joint, Pose
from fenrik.core.machines.model import Machine

__all__ = ["Chain", "Joint", "Machine", "Pose"]
