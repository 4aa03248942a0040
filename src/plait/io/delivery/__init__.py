"""Outputs that appear complete or not at all."""
