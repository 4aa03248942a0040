"""The demo data: a season of the beekeepers' co-operative."""
