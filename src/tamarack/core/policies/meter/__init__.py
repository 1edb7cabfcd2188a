"""Kinds of the stage Meter: how much, and what tells it."""
