"""Keys as dense codes, and what follows from codes: groups, order, uniqueness."""
