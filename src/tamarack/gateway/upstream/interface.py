"""What the gateway asks of an upstream client, by callbacks: no task and no future for a call.

`ask` sends a request and returns an exchange, through which the rest of a body is sent and the answer is held back; the
listener hears what becomes of it. Nothing is called on the listener before `ask` has returned, nor after `close`.
"""

from __future__ import annotations

from typing import Protocol

from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.heads import Answered


class NotReachable(OSError):
    """A target whose address is in a closed network."""


class Listener(Protocol):
    """Who asked."""

    def moved(self, exchange: Exchange) -> None:
        """The request goes on under another exchange: its connection was made, or is made anew."""
        ...

    def drained(self) -> None:
        """The target takes more of the body."""
        ...

    def answered(self, answer: Answered) -> None:
        """The answer's head has come; where its body is not here, `piece` follows."""
        ...

    def piece(self, data: bytes) -> None:
        """A piece of the answer's body."""
        ...

    def ended(self) -> None:
        """The answer is complete."""
        ...

    def failed(self, failure: Failed) -> None:
        """There is no answer, or no more of it."""
        ...


class Exchange(Protocol):
    """One request under way."""

    @property
    def open(self) -> bool:
        """Whether its connection is made, so that more of the body may be sent."""
        ...

    def send(self, data: bytes) -> bool:
        """Send a piece of the body. False where the target is full: wait for `drained`."""
        ...

    def finish(self) -> None:
        """The body is complete."""
        ...

    def pause(self) -> None:
        """Take no more of the answer for now."""
        ...

    def resume(self) -> None:
        """Take the rest of the answer."""
        ...

    def close(self) -> None:
        """Let go of it; an answer not taken to its end costs the connection. May be called twice."""
        ...


class Upstream(Protocol):
    """Asks targets."""

    def ask(self, ask: Ask, listener: Listener) -> Exchange | Failed:
        """Send a request: `ask.head` with its blank line, and `ask.body` behind it; or say why it cannot be sent."""
        ...

    async def close(self) -> None:
        """Close every connection."""
        ...
