"""Pictures: where everything stands in them, and files of them."""
