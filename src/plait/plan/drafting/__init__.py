"""A first plan from what a survey finds."""
