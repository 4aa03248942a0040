"""What ``import plait`` offers: files, verbs, whole jobs."""
