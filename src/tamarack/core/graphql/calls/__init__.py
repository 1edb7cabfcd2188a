"""GraphQL on a call's way: what is asked, kept, told and made up."""
