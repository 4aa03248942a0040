"""The plan carried out: sources read, steps done, expectations judged."""
