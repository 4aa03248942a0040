"""One module a verb, as on the command line."""
