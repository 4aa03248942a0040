"""What ``compare`` alone needs: which rows are one record, what differs, and the list of it."""
