"""The sign-in service: where end users of applications sign in, and where applications get tokens."""
