"""Answers made from descriptions: every documented one, and which of them a call is given."""
