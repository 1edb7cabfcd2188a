"""Traffic: records of calls, roll-ups of them, and what is read from both."""
