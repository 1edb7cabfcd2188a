"""Kinds of the stage Shape: what is changed of a request before it is answered or goes on."""
