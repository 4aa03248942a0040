"""Between the cells of files and columns with headings and types."""
