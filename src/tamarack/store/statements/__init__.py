"""Statements: the tables, and making them."""
