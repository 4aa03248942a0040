"""Plans that run by themselves: handed to the scheduler of the system."""
