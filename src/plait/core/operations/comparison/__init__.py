"""What only compare needs: pairing of records, changes of cells."""
