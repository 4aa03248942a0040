"""Plans: written, checked, carried out, repeated, traced."""
