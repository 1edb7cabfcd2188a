"""What the gateway asks of an upstream client."""

from collections.abc import AsyncIterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal, Protocol
from urllib.parse import urlsplit

from tamarack.core.carrying.call import Header

Failure = Literal["away", "slow", "broken"]


class UpstreamError(Exception):
    """A target gave no usable answer.

    `failure` is `away` (no connection), `slow` (out of time) or `broken` (not HTTP, or cut off); `step`
    says at which step, for staff.
    """

    def __init__(self, failure: Failure, step: str) -> None:
        super().__init__(f"{failure}: {step}")
        self.failure = failure
        self.step = step


class CallerGone(Exception):
    """The caller went away while its body was being read."""


class BodyTooLarge(Exception):
    """The caller sent more than the operation takes."""


@dataclass(frozen=True, slots=True, eq=False)
class TargetAddress:
    """A target, read once when a rollout is taken up. `path` is its base path in bytes, without the last slash.

    The same address and timeouts give the same object, which is its own key: connections outlast a rollout.
    """

    scheme: str
    host: str
    port: int
    path: bytes
    head: bytes
    """What follows the path in a request's head: the version, and the Host field."""
    connect_timeout_s: float
    read_timeout_s: float
    verify_tls: bool
    label: str


@lru_cache(maxsize=4096)
def target_address(
    address: str, connect_timeout_ms: int, read_timeout_ms: int, verify_tls: bool = True
) -> TargetAddress:
    """Read a target's address and the timeouts of its backend."""
    parts = urlsplit(address)
    host = parts.hostname or ""
    port = parts.port or (443 if parts.scheme == "https" else 80)
    return TargetAddress(
        scheme=parts.scheme,
        host=host,
        port=port,
        path=parts.path.rstrip("/").encode(),
        head=b" HTTP/1.1\r\nhost: %b\r\n" % parts.netloc.encode(),
        connect_timeout_s=connect_timeout_ms / 1000,
        read_timeout_s=read_timeout_ms / 1000,
        verify_tls=verify_tls,
        label=parts.netloc,
    )


class Answer(Protocol):
    """An answer whose head has arrived."""

    status: int
    headers: list[Header]

    def whole(self) -> bytes | None:
        """The body, where all of it is here already; else None."""
        ...

    def chunks(self) -> AsyncIterator[bytes]:
        """The body as it comes. Raises `UpstreamError` where it is cut off or stalls."""
        ...

    def close(self) -> None:
        """Let go of the answer; a body not read to its end costs the connection. May be called twice."""
        ...


class Upstream(Protocol):
    """Asks targets."""

    async def send(
        self,
        target: TargetAddress,
        method: str,
        head: bytes,
        body: AsyncIterator[bytes] | None = None,
        chunked: bool = False,
        repeatable: bool = False,
    ) -> Answer:
        """Send a request and wait for the head of its answer.

        `head` is the request line and fields with their blank line; `body` comes framed by Content-Length,
        or in chunks where `chunked`. `repeatable` requests without a body may be sent a second time when a
        kept connection turns out to be closed. Raises `UpstreamError`, and what `body` raises.
        """
        ...

    async def close(self) -> None:
        """Close every connection."""
        ...
