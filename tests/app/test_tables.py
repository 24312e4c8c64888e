"""Two people put in the same at one moment: neither gets an error that names nothing."""

import threading
import time

import pytest
from sqlmodel import Session

from app_fixtures import database_of_its_own
from fenrik.app import library
from fenrik.app.access.accounts import add_account
from fenrik.app.documents import create
from fenrik.app.tables import AccountRow, LibraryMaterialRow, LibraryRecipeRow, LibraryToolRow, ModelRow, engine
from fenrik.core.cutting.materials import Material
from fenrik.core.errors import FenrikError
from fenrik.core.job_reading import parse_job
from fenrik.core.keys import sha256
from fenrik.core.recipe import Recipe
from fenrik.core.tools import Tool
from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS

DATA = b"solid nothing\nendsolid\n"
TOOL, MATERIAL = Tool.model_validate(SHOP_TOOLS[0]), Material.model_validate(SHOP_MATERIALS[0])
WORDS = "lamp stairs gull forty"


@pytest.fixture(scope="module", autouse=True)
def own_database():
    with database_of_its_own("fenrik_test_tables"):
        yield


def at_one_moment(other, work):
    """Do the work while somebody else has put a row in that is not seen yet, and is kept a moment later."""
    ended = []

    def attempt():
        try:
            work()
        except Exception as error:
            ended.append(error)
        else:
            ended.append(None)

    with Session(engine()) as session:
        session.add(other)
        session.flush()
        thread = threading.Thread(target=attempt)
        thread.start()
        time.sleep(0.3)
        session.commit()
    thread.join(20)
    assert not thread.is_alive()
    return ended[0]


@pytest.mark.parametrize(
    ("other", "work"),
    [
        (
            lambda: ModelRow(sha=sha256(DATA), name="other.stl", data=DATA),
            lambda: create(parse_job({"name": "mine"}), ("mine.stl", DATA)),
        ),
        (lambda: LibraryToolRow(number=TOOL.number, data={}), lambda: library.keep_tools([TOOL])),
        (lambda: LibraryMaterialRow(name=MATERIAL.name, data={}), lambda: library.keep_material(MATERIAL)),
        (lambda: LibraryRecipeRow(name=library.SHOP_RECIPE, data={}), lambda: library.keep_recipe(Recipe())),
    ],
    ids=["model", "tool", "material", "recipe"],
)
def test_what_another_puts_in_at_this_moment_is_no_error(other, work):
    assert at_one_moment(other(), work) is None


def test_the_later_one_stays():
    assert library.library_tools() == [TOOL]
    assert library.library_materials() == [MATERIAL]


def test_an_account_whose_name_another_takes_at_this_moment_is_refused_with_words():
    other = AccountRow(name="keeper", role="look", password="x")
    error = at_one_moment(other, lambda: add_account("keeper", "run", WORDS))
    assert isinstance(error, FenrikError)
    assert "taken" in str(error)
