"""Key sets against one another: matches, duplicates, conflicts, crosswalks."""
