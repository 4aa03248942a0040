"""Why keys do not match, and what would make them."""
