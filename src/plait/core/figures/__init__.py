"""Many cells brought down to one: sums, rules, figures of groups."""
