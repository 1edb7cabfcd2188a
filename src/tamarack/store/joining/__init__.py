"""Joining an organization: the tables, and sign-up, invitations, and passwords."""
