"""What a call asks from outside while its program runs. A program yields a need and goes on with its answer."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from tamarack.core.http.target import Target

if TYPE_CHECKING:
    from tamarack.core.carrying.metering import Meter

Failure = Literal["away", "slow", "broken", "busy"]


class ReadBody:
    """The request's body, whole. Answered with bytes; with None where it is longer than `at_most`, and then nothing
    of it is lost; or with a `Refusal` where it is longer than the operation takes."""

    __slots__ = ("at_most",)

    def __init__(self, at_most: int) -> None:
        self.at_most = at_most


class FetchKeys:
    """A key set, fetched anew because of a key id. Answered with whether it was."""

    __slots__ = ("kid", "url")

    def __init__(self, url: str, kid: str) -> None:
        self.url = url
        self.kid = kid


class Take:
    """A decision over the limits in `call.asked`, after waiting where they let calls wait. Answered with `Taken`; with
    a `Refusal` where it cannot be counted; or with None where it is let through uncounted."""

    __slots__ = ("meter",)

    def __init__(self, meter: Meter) -> None:
        self.meter = meter


class Ask:
    """A request to a target. Answered with `Answered`, `Failed`, or a `Refusal` where the caller's body is too large.

    `head` is the request line and fields with their blank line. `body` is what to send; None for the caller's own as
    it comes, framed by its length, or in chunks where that is not known.
    """

    __slots__ = ("body", "chunked", "head", "method", "more", "owner", "repeatable", "target")

    def __init__(self, target: Target, method: str, head: bytes, body: bytes | None, owner: str) -> None:
        self.target = target
        self.method = method
        self.head = head
        self.body = body
        self.owner = owner
        """Whose call it is: connections are shared fairly between owners."""
        self.repeatable = False
        """May be sent a second time when a kept connection turns out to be closed; only without `more`."""
        self.more = False
        """More of the body follows than goes with the head. Set by who sends it."""
        self.chunked = False
        """What follows goes in chunks."""


class ReadAnswer:
    """The answer's body, whole. Answered with bytes, or with None where it is longer than `at_most`: nothing is lost.

    Answered with `Failed` where it is cut off.
    """

    __slots__ = ("at_most",)

    def __init__(self, at_most: int) -> None:
        self.at_most = at_most


class Failed:
    """A target gave no usable answer.

    `failure` is `away` (no connection), `slow` (out of time), `broken` (not HTTP, or cut off) or `busy` (no room for
    this caller's call); `step` says at which step, for staff.
    """

    __slots__ = ("failure", "step")

    def __init__(self, failure: Failure, step: str) -> None:
        self.failure: Failure = failure
        self.step = step


Need = ReadBody | FetchKeys | Take | Ask | ReadAnswer
