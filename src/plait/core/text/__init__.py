"""Text as words, words as codes: what all comparing of cells rests on."""
