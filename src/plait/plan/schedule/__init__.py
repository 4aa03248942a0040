"""Plans that run automatically, by the schedulers of the systems."""
