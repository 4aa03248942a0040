"""Where a job works: its memory, its scratch folder, and who works with it."""
