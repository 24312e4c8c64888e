"""The stock model: make it, cut it, mesh it, measure it."""

from fenrik.core.stock.cut import CutRecord, cut
from fenrik.core.stock.field import Lattice, Stock
from fenrik.core.stock.mesh import brick_mesh, changed_bricks, stock_mesh

__all__ = ["CutRecord", "Lattice", "Stock", "brick_mesh", "changed_bricks", "cut", "stock_mesh"]
