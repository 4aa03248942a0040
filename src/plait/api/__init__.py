"""Plait from Python: the same operations, options and words as on the command line."""
