"""Which columns tell the rows of a table apart: all minimal keys, exactly."""
