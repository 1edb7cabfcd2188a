"""Applications with their credentials and subscriptions: the tables, reading them, and changing them."""
