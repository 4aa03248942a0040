"""From run to run: history, lock, what is new."""
