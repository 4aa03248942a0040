"""JSON, and JSON lines."""
