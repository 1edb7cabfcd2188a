"""Doors, accounts, and credentials, the same in console and portal."""
