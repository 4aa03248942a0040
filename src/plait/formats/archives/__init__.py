"""Archives and compressed files, opened with bounds."""
