"""Workbooks of spreadsheets."""
