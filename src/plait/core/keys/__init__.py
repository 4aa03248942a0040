"""Key sets against each other: matches, duplicates, conflicts, crosswalks."""
