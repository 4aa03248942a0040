"""Reading and writing: formats, places, databases, delivery."""
