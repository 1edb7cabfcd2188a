"""Kinds of the stage Permit: whether this caller may."""
