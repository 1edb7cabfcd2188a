"""Kinds of the stage Guard: what no caller may send."""
