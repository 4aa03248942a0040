"""What is to be seen in tables before anything is done."""
