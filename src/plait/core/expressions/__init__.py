"""SQL expressions over the columns of a table."""
