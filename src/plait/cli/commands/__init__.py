"""One module a command: parse, call one function, show what it returns."""
