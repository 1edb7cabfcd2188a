"""The family of the store's errors: why something was not done, in words for whoever asked for it."""


class StoreError(Exception):
    """The store did not do what was asked for. Nothing was changed, and the message may be shown."""


class NotPossible(StoreError):
    """What was asked for cannot be done; `field` names the part of the form at fault."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field
