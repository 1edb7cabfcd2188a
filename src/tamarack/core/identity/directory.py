"""The directory: which credential belongs to which caller, as a node looks it up on every call."""

from collections.abc import Callable
from typing import Protocol

from tamarack.core.identity.caller import Caller
from tamarack.core.identity.credentials import CredentialKind


class Directory(Protocol):
    """Finds callers by what they show. Holds keyed hashes, never a credential."""

    def finder(self, kind: CredentialKind) -> Callable[[bytes], Caller | None]:
        """How to find the caller that owns a credential of a kind; the function gives None for an unknown one."""
        ...

    def application(self, name: str) -> Caller | None:
        """An application itself, by id or as `organization/application`."""
        ...
