"""A pocket's path, posted and proven."""

import numpy as np

from fenrik.core.contact.distance import DistanceIndex
from fenrik.core.machines import Machine
from fenrik.core.posting import PostedOperation, load_controllers, post_programs
from fenrik.core.proof import ProofInputs, ProofSettings, prove
from fenrik.core.solids.reading import mesh_at
from fenrik.core.stock import Stock
from fenrik.core.toolpath import Feeds, PathBuilder, SafePlane
from fenrik.core.tools import FlatCutter, HolderSection, Tool

PLAIN = load_controllers()["Plain ISO"]
FLAT = FlatCutter(diameter_mm=6, flute_length_mm=12)
HOLDER = [HolderSection(lower_diameter_mm=30, upper_diameter_mm=30, height_mm=20)]


def pocket_path(depth, stop=14.0, rapid_down=None, overlap=2.0):
    """Zigzag over the pocket's floor with the tip at `depth`."""
    b = PathBuilder(Feeds(1000, 300, 2000), SafePlane.at_height(40.0), 30.0)
    for k, y in enumerate(np.arange(13, 27.01, overlap)):
        b.travel(13.0, y, rapid_down if rapid_down is not None else 21.0)
        b.enter(np.array([13.0, y, depth]))
        b.next_pass()
        b.cut(np.array([[47.0, y, depth]]))
    return b.finish()


def run(pocket, path, tool=None, machine=None, tolerance=0.02, dialect="Plain ISO"):
    tool = tool or Tool(number=3, cutter=FLAT, stick_out_mm=30)
    zero = np.array([30.0, 20.0, 20.0])
    programs = post_programs(
        load_controllers()[dialect],
        Machine(name="M"),
        [PostedOperation(10, "x", tool, 8000, path.moved(-zero))],
        "p",
        54,
    )
    stock = Stock.box(np.zeros(3), np.array([60.0, 40, 20]), 0.5)
    return prove(
        ProofInputs(
            stock,
            DistanceIndex.build(mesh_at(pocket, 0.016), pocket.surfaces),
            load_controllers()[dialect],
            programs,
            {3: tool},
            [3],
            {10: tolerance},
            machine or Machine(name="M"),
            zero,
            ProofSettings(band_mm=0.1),
        )
    )
