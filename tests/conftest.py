"""Parts that many tests use, made with Open CASCADE."""

import sys
from pathlib import Path

import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Pnt

from fenrik.core.solids.reading import solid_from_shape

HERE = Path(__file__).parent
sys.path[:0] = [
    str(HERE / folder)
    for folder in (
        ".",
        "app",
        "e2e",
        "core/contact",
        "core/proof",
        "core/recognise",
        "core/stock",
        "core/strategies",
        "core/tools",
        "core",
        "../bench",
    )
]
pytest_plugins = ["app_fixtures"]
LONG_FIRST = ("server", "test_finish.py")


@pytest.hookimpl(tryfirst=True)  # before the processes are told of the groups
def pytest_collection_modifyitems(items):
    """Tests of server and interface share one server and so one process; of the others each file stays together. What
    takes long begins first."""
    for item in items:
        folder = item.path.relative_to(HERE).parts[0]
        item.add_marker(pytest.mark.xdist_group("server" if folder in ("app", "e2e") else item.path.name))
    rank = {name: k for k, name in enumerate(LONG_FIRST)}
    items.sort(key=lambda item: rank.get(item.get_closest_marker("xdist_group").args[0], len(rank)))


@pytest.fixture(scope="session")
def pocket_shape():
    """A block 60 × 40 × 20 with a pocket 40 × 20, 10 deep, and a dome-shaped hollow beside it would not fit: sharp."""
    block = BRepPrimAPI_MakeBox(60.0, 40.0, 20.0).Shape()
    return BRepAlgoAPI_Cut(block, BRepPrimAPI_MakeBox(gp_Pnt(10, 10, 10), 40.0, 20.0, 20.0).Shape()).Shape()


@pytest.fixture(scope="session")
def dish_shape():
    """A block 50 × 40 × 20 with a spherical dish of radius 30, 8 deep, in its top."""
    block = BRepPrimAPI_MakeBox(50.0, 40.0, 20.0).Shape()
    return BRepAlgoAPI_Cut(block, BRepPrimAPI_MakeSphere(gp_Pnt(25, 20, 42), 30.0).Shape()).Shape()


@pytest.fixture(scope="session")
def pocket(pocket_shape):
    return solid_from_shape(pocket_shape)


@pytest.fixture(scope="session")
def dish(dish_shape):
    return solid_from_shape(dish_shape)
