"""Files that are on other machines, and the bytes of files anywhere."""
