"""What stands round an arm: never farther than exact distances say (`trimesh` on the surfaces), seldom much nearer."""

import numpy as np
import pytest
import trimesh
from cells import CELLS, TOOL, chain_of

from fenrik.core.machines.linkage import Linkage, Solids
from fenrik.core.robots import _whole_path_kernels as kernels
from fenrik.core.robots.around import nothing_around, surroundings


def figure():
    made = trimesh.creation.cylinder(radius=180, height=700, sections=40)
    made.apply_translation([40, -30, 350])
    return np.array(made.vertices), np.array(made.faces)


@pytest.mark.parametrize("name", list(CELLS))
def test_gaps_are_never_less_than_told(name):
    cell, chain = CELLS[name], chain_of(name, TOOL.assembly_mm)
    around = surroundings(cell, TOOL, [figure()])
    rng = np.random.default_rng(2)
    joints = chain.joints
    low = np.array([-180.0 if j.low is None else max(j.low, -150) for j in joints])
    high = np.array([180.0 if j.high is None else min(j.high, 3000 if j.kind == "linear" else 150) for j in joints])
    values = rng.uniform(low, high, (150, len(joints)))
    zero = np.zeros(150)
    told = kernels.clearances(
        chain.arm, chain.shape, around, np.deg2rad(values[:, chain.columns]),
        np.deg2rad(values[:, chain.table]) if chain.table is not None else zero,
        values[:, chain.track] if chain.track is not None else zero,
    )  # fmt: skip
    linkage, last = Linkage(joints), chain.columns.stop - 1
    table = cell.table.frame("table")
    turning = last + 1 if cell.turntable is not None else -1
    bodies = [Solids.around(b.name, b.frame, b.groups) for b in cell.placed_bodies()]
    carried = [b for b in bodies if chain.columns.start + 2 <= b.frame <= last]
    others = [b for b in bodies if b.frame in (-1, turning)]
    own = [b for b in bodies if chain.columns.start <= b.frame <= chain.columns.start + 3]
    others.append(Solids("figure", turning, [(table.to_part(figure()[0]), figure()[1])], hollow=True))
    loose = []
    for v, gap in zip(values, told, strict=True):
        exact = min(linkage.distance_mm(a, b, v) for a in carried for b in others)
        exact = min(exact, min(linkage.distance_mm(a, b, v) for a in carried if a.frame == last for b in own))
        assert gap <= max(exact, 0.0) + 1e-6
        if 0 < exact < 150:
            loose.append(exact - gap)
    assert np.median(loose) < 40


def test_nothing_around_is_far_from_everything():
    chain = chain_of("plinth")
    zero = np.zeros(1)
    assert kernels.clearances(chain.arm, chain.shape, nothing_around(), np.zeros((1, 6)), zero, zero)[0] > 1e5
