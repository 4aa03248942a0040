"""Why keys do not match, and what each may be meant for."""
