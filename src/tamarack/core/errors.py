"""The family of the core's errors."""


class CoreError(Exception):
    """The core cannot do something with what it was given. The message names the thing; every error that the core
    raises on purpose is one of these, but for the `ValueError` of a model's validator."""
