"""The demo: the made-up records of a beekeepers' co-operative."""
