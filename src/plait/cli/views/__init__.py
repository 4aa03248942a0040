"""What a person sees of each result."""
