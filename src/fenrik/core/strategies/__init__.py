"""Strategies: one file each, with one function and one declaration (`STRATEGY`). `registry` finds them."""
