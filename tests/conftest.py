"""Parts that many tests use, made with Open CASCADE."""

import re
import sys
from functools import cache
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
        "app/access",
        "app/work",
        "e2e",
        "core/contact",
        "core/proof",
        "core/recognise",
        "core/robots",
        "core/stock",
        "core/strategies",
        "core/tools",
        "core",
        "../bench",
    )
]
pytest_plugins = ["app_fixtures", "people"]
SHARED = {"server", "client", "page", "small_job"}
LONG_FIRST = ("server", "tests/core/planning/test_finish.py")


@cache
def uses_the_server(path):
    """Whether tests of a file ask for the one server that they share, by their arguments."""
    asked = re.findall(r"^def test_\w+\(([^)]*)\)", (HERE.parent / path).read_text("utf-8"), re.MULTILINE)
    return any(SHARED & set(re.split(r"\W+", arguments)) for arguments in asked)


def group_of(nodeid):
    """What runs in one process: all tests that share the server; of the others each file."""
    path = nodeid.split("::")[0]
    return "server" if path.startswith(("tests/app/", "tests/e2e/")) and uses_the_server(path) else path


def pytest_collection_modifyitems(items):
    """What takes long begins first."""
    rank = {name: k for k, name in enumerate(LONG_FIRST)}
    items.sort(key=lambda item: rank.get(group_of(item.nodeid), len(rank)))


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config, log):
    from xdist.scheduler import LoadScopeScheduling

    class ByGroup(LoadScopeScheduling):
        def _split_scope(self, nodeid):
            return group_of(nodeid)

    return ByGroup(config, log)


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
