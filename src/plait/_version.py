"""The version, alone in a module so that asking for it loads nothing else."""

__version__ = "0.2.0"
