"""Counters in Redis, shared by all nodes: one script decides over all limits of a call, in one round trip."""

import asyncio
import itertools
from collections.abc import Sequence
from pathlib import Path

from redis.asyncio import BlockingConnectionPool, Redis
from redis.asyncio.retry import Retry
from redis.backoff import NoBackoff
from redis.exceptions import RedisError

from tamarack.core.limits.store import Limiter, StoreAway, Taken
from tamarack.core.limits.window import Window

SCRIPT = (Path(__file__).parent / "take.lua").read_text()
_CODES = {"fixed": 0, "sliding": 1, "bucket": 2}
MOST_CONNECTIONS = 64


class RedisCounters:
    """A `core.limits.store.SharedCounterStore`. `prefix` keeps environments apart."""

    def __init__(self, url: str, prefix: str, timeout_s: float) -> None:
        self._timeout = timeout_s
        self._prefix = prefix
        pool = BlockingConnectionPool.from_url(
            url,
            max_connections=MOST_CONNECTIONS,
            timeout=timeout_s,
            socket_timeout=timeout_s,
            socket_connect_timeout=timeout_s,
            retry=Retry(NoBackoff(), 0),  # a call that was counted, but not answered, is not to count again
        )
        self._redis = Redis.from_pool(pool)
        self._questions = itertools.count(1)
        self._script = self._redis.register_script(SCRIPT)

    async def take(self, asked: Sequence[tuple[Limiter, str]], now: float, cost: int = 1) -> Taken:
        """Count a call against every limiter asked, or against none. Raises `StoreAway` within the time limit."""
        keys: list[str] = []
        question = next(self._questions)
        arguments: list[int] = [int(now * 1_000_000), cost, question]
        windows: list[tuple[Limiter, Window]] = []
        for limiter, key in asked:
            for window in limiter.windows:
                keys.append(f"{self._prefix}:{limiter.id}:{window.seconds}:{window.algorithm}:{key}")
                arguments += (_CODES[window.algorithm], window.limit, window.seconds, window.burst)
                windows.append((limiter, window))
        try:
            async with asyncio.timeout(self._timeout):
                admitted, place, left, reset, answered = await self._script(keys=keys, args=arguments)
        except (RedisError, OSError, TimeoutError) as error:
            raise StoreAway(str(error) or type(error).__name__) from error
        if answered != question:
            await self._redis.connection_pool.disconnect()
            raise StoreAway("an answer came to another question; its connections are made anew")
        limiter, window = windows[place - 1]
        return Taken(bool(admitted), limiter, window, left, reset)

    async def answers(self) -> bool:
        """Whether the store answers now."""
        try:
            async with asyncio.timeout(self._timeout):
                return bool(await self._redis.ping())
        except (RedisError, OSError, TimeoutError):
            return False

    async def close(self) -> None:
        """Close the connections."""
        await self._redis.aclose()
