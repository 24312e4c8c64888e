"""Cells, paths and postures that the tests of arms share."""

import warnings

import numpy as np
from paths import path_of
from scipy.spatial.transform import Rotation

from fenrik.core.robots import Cell, CellChain
from fenrik.core.tools import Tool
from fenrik.demo.cells import PLINTH, TRACK

CELLS = {"plinth": Cell.model_validate(PLINTH), "track": Cell.model_validate(TRACK)}

TOOL = Tool.model_validate({
    "number": 1, "stick_out_mm": 120, "cutter": {"kind": "ball", "diameter_mm": 20, "flute_length_mm": 40},
    "holder": [{"lower_diameter_mm": 60, "upper_diameter_mm": 63, "height_mm": 75}],
})  # fmt: skip


def spiral(n=2000, turns=25.0, low=150.0, high=900.0, radius=220.0, lean=0.36):
    """Round a figure that swells and waves, from top to bottom."""
    t = np.linspace(0, 1, n)
    a, z = 2 * np.pi * turns * t, high - (high - low) * t
    r = radius + 40 * np.sin(z / 180) + 15 * np.cos(2 * a)
    point = np.column_stack([r * np.cos(a), r * np.sin(a), z])
    return path_of(point, np.column_stack([np.cos(a), np.sin(a), np.full(n, lean)]), 3000.0)


def flat(n=200, size=300.0, feed=3000.0):
    """To and fro over a level face, the tool upright."""
    t = np.linspace(0, 6, n)
    x = size * (np.abs((t % 2) - 1) - 0.5)
    point = np.column_stack([x, 30 * (t - 3), np.full(n, 40.0)])
    return path_of(point, np.tile([0.0, 0, 1], (n, 1)), feed)


def chain_of(name, tool_mm=220.0, at=(0.0, 0.0, 0.0)):
    return CellChain(CELLS[name], tool_mm, at)


def urdf_of(arm):
    """The arm's axes at 0 as a chain of revolute joints (metres), the flange fixed to the last."""
    s = arm.screws()
    links, joints, at = ['<link name="base"/>'], [], np.zeros(3)
    parent = "base"
    for k in range(6):
        x, y, z = ((s.origin[k] - at) / 1000).tolist()
        i, j, l = s.along[k].tolist()  # noqa: E741
        joints.append(
            f'<joint name="j{k}" type="revolute"><parent link="{parent}"/><child link="l{k}"/>'
            f'<origin xyz="{x!r} {y!r} {z!r}" rpy="0 0 0"/><axis xyz="{i!r} {j!r} {l!r}"/>'
            '<limit lower="-9" upper="9" effort="1" velocity="1"/></joint>'
        )
        links.append(f'<link name="l{k}"/>')
        parent, at = f"l{k}", s.origin[k]
    x, y, z = ((s.place - at) / 1000).tolist()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        roll, pitch, yaw = Rotation.from_matrix(s.turn).as_euler("xyz").tolist()
    links.append('<link name="flange"/>')
    joints.append(
        f'<joint name="end" type="fixed"><parent link="{parent}"/><child link="flange"/>'
        f'<origin xyz="{x!r} {y!r} {z!r}" rpy="{roll!r} {pitch!r} {yaw!r}"/></joint>'
    )
    return f'<robot name="arm">{"".join(links)}{"".join(joints)}</robot>'
