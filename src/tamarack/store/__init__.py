"""What lasts, in PostgreSQL: a table per file, the queries on them, and the migrations."""
