"""Accounts for others to read: JSON, pages and figures."""
