"""Traffic: calls, roll-ups and traces, taken in and asked for."""
