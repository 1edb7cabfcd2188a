"""Who somebody is, and how that is known: credentials, tokens, keys, secrets, roles."""
