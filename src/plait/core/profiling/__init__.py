"""Data profiling: columns, candidate keys, schemas, joins."""
