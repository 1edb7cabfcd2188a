"""The directory: which credential belongs to which caller, as a node looks it up on every call."""

from typing import Protocol

from tamarack.core.call import Caller


class Directory(Protocol):
    """Finds callers by what they show. Holds keyed hashes, never a credential."""

    def find(self, shown: bytes) -> Caller | None:
        """The caller that owns the credential shown, or None where it is not known."""
        ...
