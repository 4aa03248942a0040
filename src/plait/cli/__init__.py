"""The command line: arguments, progress, the terminal."""
