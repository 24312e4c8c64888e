"""Arms and their cells: what their joints reach, all postures that reach it, and one answer for a whole path."""

from fenrik.core.robots.arm import Arm, ArmJoint, Axes, Axis, Link, LinkTable
from fenrik.core.robots.around import nothing_around, surroundings
from fenrik.core.robots.cell import Cell, CellBody, KeepOut, Place, Posture, Track, Turntable
from fenrik.core.robots.chain import CellChain
from fenrik.core.robots.inverse import all_postures
from fenrik.core.robots.machine import CellMachine, machine_of_cell
from fenrik.core.robots.urdf import arm_from_urdf
from fenrik.core.robots.whole_path import WholePath, whole_path
from fenrik.core.robots.wishes import ArmWishes

__all__ = [
    "Arm", "ArmJoint", "ArmWishes", "Axes", "Axis", "Cell", "CellBody", "CellChain", "CellMachine", "KeepOut", "Link",
    "LinkTable", "Place", "Posture", "Track", "Turntable", "WholePath", "all_postures", "arm_from_urdf",
    "machine_of_cell", "nothing_around", "surroundings", "whole_path",
]  # fmt: skip
