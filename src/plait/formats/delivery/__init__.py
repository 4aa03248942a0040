"""Outputs whole or absent."""
