"""What a first plan for some sources would be: where they are, what they are, how they join."""
