"""APIs: the call path, its policies, the description, documentation, and bringing one in."""
