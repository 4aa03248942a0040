"""Many cells to one: aggregates, exact sums, survivorship rules."""
