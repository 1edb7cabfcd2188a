"""Asking addresses that people name, and sending calls to nodes."""
