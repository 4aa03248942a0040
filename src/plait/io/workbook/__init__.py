"""Workbooks of spreadsheet programs."""
