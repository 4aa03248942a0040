"""Between the cells of files and the columns of tables."""
