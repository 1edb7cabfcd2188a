"""An upstream client that answers from a script, and remembers what it was asked."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field

from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.chunked import ChunkedReader
from tamarack.core.http.fields import Header
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import Target
from tamarack.gateway.upstream.interface import Exchange, Listener


@dataclass
class ScriptedAnswer:
    """An answer to give: its body comes in these pieces; a failure comes after them."""

    status: int = 200
    headers: list[Header] = field(default_factory=list)
    pieces: tuple[bytes, ...] = ()
    failure: Failed | None = None


@dataclass(frozen=True)
class Asked:
    """What was asked of a target."""

    target: Target
    method: str
    head: bytes
    body: bytes


class _Scripted:
    """An exchange with the script. The answer comes in the loop's next turn, once the request is complete."""

    open = True

    def __init__(self, upstream: ScriptedUpstream, ask: Ask, listener: Listener) -> None:
        self._upstream = upstream
        self._ask = ask
        self._listener: Listener | None = listener
        self._body = b""
        self._paused = False
        self._left: list[bytes] | None = None
        self._failure: Failed | None = None
        if not ask.more:
            asyncio.get_running_loop().call_soon(self._answer)

    def send(self, data: bytes) -> bool:
        """See `Exchange.send`."""
        self._body += data
        return True

    def finish(self) -> None:
        """See `Exchange.finish`."""
        asyncio.get_running_loop().call_soon(self._answer)

    def _answer(self) -> None:
        if self._listener is None:
            return
        ask = self._ask
        first = ask.body or b""
        if b"transfer-encoding: chunked" in ask.head and first:
            first = ChunkedReader().feed(first)
        asked = Asked(ask.target, ask.method, ask.head, first + self._body)
        self._upstream.asked.append(asked)
        answer = self._upstream.script(asked)
        if isinstance(answer, Failed):
            self._listener.failed(answer)
            return
        whole = b"".join(answer.pieces) if len(answer.pieces) < 2 and answer.failure is None else None
        self._listener.answered(Answered(answer.status, list(answer.headers), whole))
        if whole is None:
            self._left, self._failure = list(answer.pieces), answer.failure
            self._go_on()

    def _go_on(self) -> None:
        while self._left and not self._paused and self._listener is not None:
            self._listener.piece(self._left.pop(0))
        if self._left or self._paused or self._listener is None:
            return
        if self._failure is not None:
            self._listener.failed(self._failure)
        else:
            self._listener.ended()

    def pause(self) -> None:
        """See `Exchange.pause`."""
        self._paused = True

    def resume(self) -> None:
        """See `Exchange.resume`."""
        self._paused = False
        if self._left is not None:
            asyncio.get_running_loop().call_soon(self._go_on)

    def close(self) -> None:
        """See `Exchange.close`."""
        self._listener = None


class ScriptedUpstream:
    """An `Upstream` that hands each request to a function, which answers or fails."""

    def __init__(self, script: Callable[[Asked], ScriptedAnswer | Failed]) -> None:
        self.script = script
        self.asked: list[Asked] = []

    def ask(self, ask: Ask, listener: Listener) -> Exchange | Failed:
        """See `Upstream.ask`."""
        return _Scripted(self, ask, listener)

    async def close(self) -> None:
        """See `Upstream.close`."""
