"""The bench: calls, traces, explaining, the browser checker, saved calls."""
