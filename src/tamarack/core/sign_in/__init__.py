"""The rules of the sign-in service: passwords of end users, redirect addresses, scopes, and its tokens."""
