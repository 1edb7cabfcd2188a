"""GraphQL: schemas, documents and what they ask, requests over HTTP, and the form of answers (October 2021)."""
