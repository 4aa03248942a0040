"""Who is notified of a run, and how."""
