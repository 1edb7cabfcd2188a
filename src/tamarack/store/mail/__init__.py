"""Mail: the table, and telling people."""
