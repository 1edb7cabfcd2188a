"""Fields of a GraphQL API: which are used, by whom, and what limits would refuse nobody."""
