"""The directory: which credential belongs to which caller, as a node looks it up on every call."""

from typing import Protocol

from tamarack.core.identity.caller import Caller
from tamarack.core.identity.credentials import CredentialKind


class Finder(Protocol):
    """Finds the callers that own credentials of one kind."""

    def __call__(self, shown: bytes) -> Caller | None:
        """The caller that owns it; None for an unknown one."""
        ...

    def digest(self, shown: bytes) -> bytes:
        """The keyed hash of what is shown."""
        ...

    def owner(self, digest: bytes) -> Caller | None:
        """The caller that owns the credential with this keyed hash."""
        ...


class Directory(Protocol):
    """Finds callers by what they show. Holds keyed hashes, never a credential."""

    def finder(self, kind: CredentialKind) -> Finder:
        """How to find the caller that owns a credential of a kind."""
        ...

    def application(self, name: str) -> Caller | None:
        """An application itself, by id or as `organization/application`."""
        ...
