"""Where tables stand, how a person says it, and what reads them there."""
