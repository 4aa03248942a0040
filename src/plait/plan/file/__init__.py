"""The plan as a file: what may be in it, and what is wrong with it, by line."""
