"""A target's address, read once when a rollout is taken up."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from urllib.parse import urlsplit


@dataclass(frozen=True, slots=True, eq=False)
class Target:
    """One address of a backend. `path` is its base path in bytes, without the last slash.

    The same address and time limits give the same object, which is its own key: connections outlast a rollout.
    """

    scheme: str
    host: str
    port: int
    path: bytes
    authority: bytes
    """Host and port as they stand in the address."""
    head: bytes
    """What follows the path in a request's head: the version, and the Host field."""
    connect_timeout_s: float
    read_timeout_s: float
    verify_tls: bool
    label: str
    authorities: str = ""
    """Certificates (PEM) of who signs the target's; empty for those that the system knows."""
    certificate: str = ""
    """The name of the secret with the certificate and key that are shown to it; empty for none."""


@lru_cache(maxsize=4096)
def target_at(
    address: str,
    connect_timeout_ms: int,
    read_timeout_ms: int,
    verify_tls: bool = True,
    authorities: str = "",
    certificate: str = "",
) -> Target:
    """Read a target's address and the time limits of its backend, in milliseconds; see `Target` for the others."""
    parts = urlsplit(address)
    port = parts.port or (443 if parts.scheme == "https" else 80)
    authority = parts.netloc.encode()
    return Target(
        scheme=parts.scheme,
        host=parts.hostname or "",
        port=port,
        path=parts.path.rstrip("/").encode(),
        authority=authority,
        head=b" HTTP/1.1\r\nhost: %b\r\n" % authority,
        connect_timeout_s=connect_timeout_ms / 1000,
        read_timeout_s=read_timeout_ms / 1000,
        verify_tls=verify_tls,
        label=parts.netloc,
        authorities=authorities,
        certificate=certificate if parts.scheme == "https" else "",
    )
