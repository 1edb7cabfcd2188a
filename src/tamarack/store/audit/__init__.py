"""The audit log: the table, and writing and reading it."""
