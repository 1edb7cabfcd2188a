"""Trying a call: from a filled-in form, on the bench, with expectations, and as text to copy."""
