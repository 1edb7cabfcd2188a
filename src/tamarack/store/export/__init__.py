"""The steady export: the table, and what is sent next."""
