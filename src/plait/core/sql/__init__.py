"""SQL expressions: read, typed, worked out over whole columns."""
