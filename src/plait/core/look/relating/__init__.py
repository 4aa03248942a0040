"""Which columns of several tables could join which, from their values."""
