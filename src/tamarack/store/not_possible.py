"""The error of a change that cannot be made, in words for whoever asked for it."""


class NotPossible(Exception):
    """What was asked for cannot be done; `field` names the part of the form at fault."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field
