"""Writing tables into databases that a server keeps: whole or not at all."""
