"""Which fields of GraphQL APIs are used, and by whom."""
