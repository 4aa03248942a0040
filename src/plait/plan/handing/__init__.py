"""The folder that is handed over."""
