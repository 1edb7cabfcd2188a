"""Changing what passes: fields, paths and bodies, on the way in and on the way back."""
