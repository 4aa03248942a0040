"""Accounts of what was done: as data, Markdown, pages, pictures."""
