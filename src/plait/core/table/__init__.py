"""Tables over fragments, and the provenance of their columns."""
