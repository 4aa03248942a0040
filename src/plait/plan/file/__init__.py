"""The plan as text: its model, its mistakes with their lines, its reference."""
