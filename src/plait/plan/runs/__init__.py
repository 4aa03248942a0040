"""Runs one after another: what was handed over before, what changed since, and the history."""
