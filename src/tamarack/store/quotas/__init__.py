"""What was used of quotas: the table, and taking it in."""
