"""The protocols: OAuth 2.0 and OpenID Connect on Authlib, and what Authlib leaves open."""
