"""Cutting data: chip load, speeds and feeds."""
