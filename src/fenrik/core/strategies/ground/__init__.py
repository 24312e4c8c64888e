"""The ground that all roughing stands on: regions and levels, stock with its overhangs, ways in, fronts, links."""
