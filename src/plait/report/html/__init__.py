"""Pages."""
