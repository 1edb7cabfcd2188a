"""The environments a configuration can be rolled out to, in the order of the work."""

ENVIRONMENTS: tuple[str, ...] = ("test", "production")
