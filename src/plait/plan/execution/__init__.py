"""The steps of a plan, carried out."""
