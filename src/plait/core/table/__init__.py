"""Tables, their strands and columns, and the rows that are set aside."""
