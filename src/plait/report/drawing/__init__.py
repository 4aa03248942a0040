"""Pictures: the plan, charts of comparisons, keys and surveys."""
