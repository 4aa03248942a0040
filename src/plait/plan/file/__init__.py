"""The plan as a file: what may stand in it, and what is wrong with it, by line."""
