"""Where cells and row numbers stand: in memory while there is room, else in scratch files."""
