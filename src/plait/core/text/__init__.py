"""Cells as words, words as codes, exact decimals of text."""
