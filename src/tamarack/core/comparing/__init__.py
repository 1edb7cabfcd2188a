"""Two descriptions compared: what differs in meaning, and whether it breaks callers."""
