"""One module an operation, and the parts that only operations need."""
