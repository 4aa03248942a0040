"""Where rows and cells came from."""
