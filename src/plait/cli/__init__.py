"""The command line: one module a command, and what the terminal shows."""
