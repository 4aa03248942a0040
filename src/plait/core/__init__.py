"""Tables, keys and operations: the computation, without files and without interface."""
