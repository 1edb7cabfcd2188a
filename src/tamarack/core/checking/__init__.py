"""Whether requests and answers fit what an operation's description says of them (OpenAPI, JSON Schema 2020-12)."""
