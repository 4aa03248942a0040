"""Parquet and Arrow files."""
