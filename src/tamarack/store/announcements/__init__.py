"""Announcements: the table, and writing, reading and sending them."""
