"""Judges: verbs set against plain reckonings that share no code with Plait."""
