"""Before the first cut: how the part lies, its stock, what holds it, and grids of parts."""
