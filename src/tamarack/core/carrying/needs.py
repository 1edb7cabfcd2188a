"""What a call asks from outside while its program runs. A program yields a need and goes on with its answer."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from tamarack.core.balancing.time_limits import TimeLimits
from tamarack.core.http.target import Target
from tamarack.core.identity.lookups import FetchKeys, FindToken

if TYPE_CHECKING:
    from tamarack.core.balancing.route import Choice, Route
    from tamarack.core.carrying.caching import Lookup
    from tamarack.core.carrying.call import Call
    from tamarack.core.carrying.metering import Meter

Failure = Literal["away", "slow", "broken", "busy"]


class ReadBody:
    """The request's body, whole. Answered with bytes; with None where it is longer than `at_most`, and then nothing
    of it is lost; or with a `Refusal` where it is longer than the operation takes."""

    __slots__ = ("at_most",)

    def __init__(self, at_most: int) -> None:
        self.at_most = at_most


class Look:
    """What is kept under a key. Answered with `Kept` or None. Where another call is asking the backend for the same,
    this one waits for that; else it `leads`, where others may wait for it."""

    __slots__ = ("lookup",)

    def __init__(self, lookup: Lookup) -> None:
        self.lookup = lookup


class Refresh:
    """Ask the backend anew for what was given though it is over, beside the call. Answered with None, at once."""

    __slots__ = ("ask", "call", "choice", "lookup", "route")

    def __init__(self, call: Call, lookup: Lookup, ask: Ask, route: Route, choice: Choice) -> None:
        self.call = call
        self.lookup = lookup
        self.ask = ask
        self.route = route
        self.choice = choice


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

    __slots__ = (
        "body",
        "chunked",
        "head",
        "left_s",
        "limits",
        "method",
        "more",
        "owner",
        "repeatable",
        "streamed",
        "target",
    )

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
        self.streamed = False
        """Its body is sent as it comes, and kept nowhere."""
        self.chunked = False
        """What follows goes in chunks."""
        self.limits: TimeLimits | None = None
        """In place of the target's own."""
        self.left_s = 0.0
        """Seconds within which the whole of it has to be over; 0 for no such bound."""


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


class Hold:
    """A pause, in milliseconds, before the call goes on. Answered with None."""

    __slots__ = ("ms",)

    def __init__(self, ms: int) -> None:
        self.ms = ms


Need = ReadBody | FetchKeys | FindToken | Hold | Look | Refresh | Take | Ask | ReadAnswer
