"""Alerts: the table, and keeping and following them."""
