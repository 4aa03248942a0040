"""The resources of one command: memory, scratch files, workers."""
