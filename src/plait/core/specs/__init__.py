"""What each operation is asked for: its options, once for every front end."""
