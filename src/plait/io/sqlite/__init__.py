"""SQLite files."""
