"""Organizations, their people, staff, and how they sign in."""
