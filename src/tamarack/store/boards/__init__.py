"""Saved explorations and boards: the tables, and who sees and changes them."""
