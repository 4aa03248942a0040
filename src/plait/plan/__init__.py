"""The plan file: its model, its checks, its run."""
