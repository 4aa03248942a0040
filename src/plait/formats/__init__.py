"""File formats: reading sources into tables, writing tables to files.

One module a format. ``sources`` turns what a person writes into files to read,
``outputs`` picks the writer by the ending.
"""
