"""Kinds of the stage Identify: who calls."""
