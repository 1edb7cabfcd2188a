"""The rules. Nothing in here does I/O, reads a clock, draws a random number or knows a framework."""
