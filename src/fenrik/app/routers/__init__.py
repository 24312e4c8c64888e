"""HTTP routes, one file for each thing."""
