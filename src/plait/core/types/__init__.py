"""Column types: families, value formats, exact numbers, inference."""
