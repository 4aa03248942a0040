"""Where bytes are: files, addresses, archives, folders others can write to."""
