"""Inputs made at random, of every kind that the program takes: each ends well, and in time."""
