"""Whether two prompts ask the same: by their words, and by their meaning."""
