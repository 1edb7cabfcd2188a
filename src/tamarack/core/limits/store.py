"""The counter store: where limits count, behind one interface.

A *limiter* is one policy's windows under an id that stays the same from rollout to rollout, so that
counts survive one. A call asks a list of limiters at once; either all of them count it or none does.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, Protocol

from tamarack.core.errors import CoreError
from tamarack.core.limits.fields import limit_field, policy_field
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.unit import Unit
from tamarack.core.limits.window import Window

WhenAway = Literal["count on the node", "admit", "refuse"]
"""What a limit does while the counters that all nodes share are away."""


class Limiter:
    """A policy's windows, ready to count; or one stretch of a quota.

    `id` is where it stands and its name; `name` is what callers see in the RateLimit fields.
    """

    __slots__ = (
        "counts_calls",
        "hold_us",
        "id",
        "is_quota",
        "is_soft",
        "limit_fields",
        "name",
        "policy_field",
        "queue",
        "reason",
        "state",
        "unit",
        "when_away",
        "windows",
    )

    def __init__(
        self,
        id: str,
        name: str,
        windows: Sequence[Window] | Sequence[Stretch],
        reason: str = "over-rate",
        when_away: WhenAway = "count on the node",
        hold_ms: int = 0,
        queue: int = 0,
        unit: Unit = "calls",
    ) -> None:
        self.when_away = when_away
        self.unit: Unit = unit
        self.id = id
        self.name = name
        self.windows: tuple[Window | Stretch, ...] = tuple(windows)
        self.reason = reason
        self.hold_us = hold_ms * 1000
        """How long a call waits for its turn instead of being refused; 0 for not at all."""
        self.queue = queue
        """How many calls of one key may wait at once."""
        self.policy_field = policy_field(name, self.windows, unit)
        self.limit_fields = {window.seconds: limit_field(name, self.windows, window) for window in self.windows}
        """The start of the RateLimit field for each window; what is left and the reset are put behind it."""
        self.counts_calls = unit == "calls"
        self.is_soft = any(isinstance(window, Stretch) and window.soft for window in self.windows)
        self.is_quota = any(window.algorithm == "stretch" for window in self.windows)
        self.state: object = None
        """What the store keeps at hand for this limiter; only the store looks at it."""

    def said(self, window: Window | Stretch) -> str:
        """One of its windows in words: `60 per minute`, `9000 tokens per day`."""
        return str(window) if self.counts_calls else str(window).replace(" ", f" {self.unit} ", 1)


class Taken:
    """The outcome of one decision.

    `limiter` and `window` are the tightest of all that held (or the one that refused), `left` how many
    calls it still admits, `wait_us` the microseconds until it would admit the call (where it refused it), or
    until all of it is back. `over` is a soft quota that the call was let through beyond. `tokens` is the tightest of
    those that count tokens, where the call also asked some that count calls.
    """

    __slots__ = ("admitted", "left", "limiter", "over", "tokens", "wait_us", "window")

    def __init__(
        self,
        admitted: bool,
        limiter: Limiter,
        window: Window | Stretch,
        left: int,
        wait_us: int,
        over: Limiter | None = None,
        tokens: Taken | None = None,
    ) -> None:
        self.admitted = admitted
        self.limiter = limiter
        self.window = window
        self.left = left
        self.wait_us = wait_us
        self.over = over
        self.tokens = tokens

    @property
    def reset(self) -> int:
        """The wait in whole seconds, rounded up, at least one."""
        seconds = -(-self.wait_us // 1_000_000)
        return seconds if seconds > 0 else 1

    @property
    def limit_field(self) -> bytes:
        """The RateLimit field: what is left of the tightest window, and the seconds until more is."""
        return b"%b%d;t=%d" % (self.limiter.limit_fields[self.window.seconds], self.left, self.reset)


class StoreAway(CoreError):
    """The shared store does not answer in time."""


Asked = Sequence[tuple[Limiter, str, int]]
"""The limiters of a call, each with the key that it counts for, and what it counts: calls, or tokens.

One that counts 0, since only the answer tells how many, admits a call while one is left. Where this is added
afterwards, a number below 0 takes back what the call had reserved and did not use."""


class SharedCounterStore(Protocol):
    """Counts for all nodes at once, elsewhere. The same decisions as a `CounterStore` on the same arrivals."""

    async def take(self, asked: Asked, now: float) -> Taken:
        """As `CounterStore.take`. Raises `StoreAway`."""
        ...

    async def add(self, asked: Asked, now: float, came: float = 0.0) -> None:
        """As `CounterStore.add`. Raises `StoreAway`."""
        ...

    async def answers(self) -> bool:
        """Whether the store answers now."""
        ...

    async def close(self) -> None:
        """Let go of it."""
        ...


class CounterStore(Protocol):
    """Counts calls by limiter and key. The time is passed in, in seconds since the epoch."""

    def bind(self, limiter: Limiter) -> None:
        """Get ready to count for a limiter, keeping what was counted under its id before."""
        ...

    def take(self, asked: Asked, now: float) -> Taken:
        """Count a call against every limiter asked, or against none if one of them is used up.

        A soft quota that is used up refuses nothing and counts on.
        """
        ...

    def add(self, asked: Asked, now: float, came: float = 0.0) -> None:
        """Count what is known only afterwards, against every limiter asked, used up or not.

        What is taken back is taken from where it was counted when the call `came`, if that still counts.
        """
        ...
