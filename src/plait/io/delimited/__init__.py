"""Delimited text: CSV and its kin."""
