"""What mending alone needs."""
