"""Traffic: the overview, calls, explore, boards, alerts, statements, files."""
