"""The folder that a run hands over, written and read back."""
