"""Notices: who is told how a run ended, and how they are told."""
