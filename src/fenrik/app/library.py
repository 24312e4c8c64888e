"""The shop's library in the database: tools and materials that jobs take copies of."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, col, delete, select

from fenrik.app.tables import LibraryMaterialRow, LibraryRecipeRow, LibraryToolRow, engine, upsert
from fenrik.core.cutting.materials import Material
from fenrik.core.errors import fail
from fenrik.core.recipe import Recipe
from fenrik.core.tools import Tool
from fenrik.demo.own import MACHINES, TOOLS
from fenrik.demo.shop import SHOP_MATERIALS, SHOP_TOOLS

SHOP_RECIPE = "shop"


def library_tools() -> list[Tool]:
    """All tools of the shop, by number."""
    with Session(engine()) as session:
        rows = session.exec(select(LibraryToolRow).order_by(col(LibraryToolRow.number))).all()
    return [Tool.model_validate(r.data) for r in rows]


def library_materials() -> list[Material]:
    """All materials of the shop, by name."""
    with Session(engine()) as session:
        rows = session.exec(select(LibraryMaterialRow).order_by(col(LibraryMaterialRow.name))).all()
    return [Material.model_validate(r.data) for r in rows]


def keep_tools(tools: list[Tool], replace_all: bool = False) -> None:
    """Put tools into the library; one of the same number is replaced.

    Raises:
        FenrikError: when two of them have one number.
    """
    numbers = [t.number for t in tools]
    twice = sorted({n for n in numbers if numbers.count(n) > 1})
    if twice:
        raise fail("tools", f"{twice[0]} is there more than once.", "Give each its own number.", twice[0])
    with Session(engine()) as session:
        if replace_all:
            session.exec(delete(LibraryToolRow))
        # In one order, or else two who do it at a time wait for each other.
        for tool in sorted(tools, key=lambda t: t.number):
            upsert(session, LibraryToolRow(number=tool.number, data=tool.model_dump(mode="json")))
        session.commit()


def drop_tool(number: int) -> None:
    """Take a tool out of the library; jobs keep their own copies."""
    with Session(engine()) as session:
        session.exec(delete(LibraryToolRow).where(col(LibraryToolRow.number) == number))
        session.commit()


def keep_material(material: Material) -> None:
    """Put a material into the library; one of the same name is replaced."""
    with Session(engine()) as session:
        upsert(session, LibraryMaterialRow(name=material.name, data=material.model_dump(mode="json")))
        session.commit()


def shop_recipe() -> Recipe:
    """The rules that new jobs begin with."""
    with Session(engine()) as session:
        row = session.get(LibraryRecipeRow, SHOP_RECIPE)
    return Recipe.model_validate(row.data) if row is not None else Recipe()


def keep_recipe(recipe: Recipe) -> None:
    """Let new jobs begin with these rules."""
    with Session(engine()) as session:
        upsert(session, LibraryRecipeRow(name=SHOP_RECIPE, data=recipe.model_dump(mode="json")))
        session.commit()


def load_shop(session: Session) -> None:
    """The made-up shop's library, where there is none yet; kept when the session commits."""
    if session.exec(select(LibraryToolRow.number)).first() is not None:
        return
    for tool in (Tool.model_validate(t) for t in SHOP_TOOLS):
        upsert(session, LibraryToolRow(number=tool.number, data=tool.model_dump(mode="json")))
    for material in (Material.model_validate(m) for m in SHOP_MATERIALS):
        upsert(session, LibraryMaterialRow(name=material.name, data=material.model_dump(mode="json")))


def new_job_defaults() -> dict[str, Any]:
    """What a new job begins with: the shop's machines and materials, and a few tools."""
    return {
        "machines": MACHINES,
        "tools": TOOLS,
        "materials": [m.model_dump() for m in library_materials()],
        "recipe": shop_recipe().model_dump(),
    }
