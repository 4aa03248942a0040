"""One module a command, with what it prints."""
