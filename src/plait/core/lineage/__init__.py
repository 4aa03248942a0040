"""From the rows of a result back to the rows of the sources."""
