"""What a join alone needs: in memory, and in a stream."""
