"""An upstream client that answers from a script, and remembers what it was asked."""

from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field

from tamarack.core.carrying.call import Header
from tamarack.gateway.upstream.interface import Answer, TargetAddress, UpstreamError


@dataclass
class ScriptedAnswer:
    """An answer to give: its body comes in these pieces; a failure comes after them."""

    status: int = 200
    headers: list[Header] = field(default_factory=list)
    pieces: tuple[bytes, ...] = ()
    failure: UpstreamError | None = None
    closed: bool = False

    def whole(self) -> bytes | None:
        """See `Answer.whole`."""
        return b"".join(self.pieces) if len(self.pieces) < 2 and self.failure is None else None

    async def chunks(self) -> AsyncIterator[bytes]:
        """See `Answer.chunks`."""
        for piece in self.pieces:
            yield piece
        if self.failure is not None:
            raise self.failure

    def close(self) -> None:
        """See `Answer.close`."""
        self.closed = True


@dataclass(frozen=True)
class Asked:
    """What was asked of a target."""

    target: TargetAddress
    method: str
    head: bytes
    body: bytes


class ScriptedUpstream:
    """An `Upstream` that hands each request to a function, which answers or fails."""

    def __init__(self, script: Callable[[Asked], ScriptedAnswer | UpstreamError]) -> None:
        self._script = script
        self.asked: list[Asked] = []

    async def send(
        self,
        target: TargetAddress,
        method: str,
        head: bytes,
        body: AsyncIterator[bytes] | None = None,
        chunked: bool = False,
        repeatable: bool = False,
    ) -> Answer:
        """See `Upstream.send`."""
        read = b"".join([chunk async for chunk in body]) if body is not None else b""
        self.asked.append(Asked(target, method, head, read))
        answer = self._script(self.asked[-1])
        if isinstance(answer, UpstreamError):
            raise answer
        return answer

    async def close(self) -> None:
        """See `Upstream.close`."""
