"""What cells mean: kinds, written forms, dates, exact numbers."""
