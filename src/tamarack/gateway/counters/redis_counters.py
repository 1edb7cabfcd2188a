"""Counters in Redis, shared by all nodes: one script decides over all limits of a call, in one round trip."""

import asyncio
import itertools
from collections.abc import AsyncIterator
from hashlib import sha1
from pathlib import Path

from tamarack.core.limits.live import LiveCounter, listed
from tamarack.core.limits.store import Asked, Limiter, StoreAway, Taken
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.window import Window
from tamarack.gateway.counters.redis_wire import RedisWire, WireError

SCRIPT = (Path(__file__).parent / "take.lua").read_text()
_SCRIPT_NAME = sha1(SCRIPT.encode(), usedforsecurity=False).hexdigest()
"""How Redis knows the script once it has seen it."""
_CODES = {"fixed": 0, "sliding": 1, "bucket": 2, "stretch": 3}
_TAKE, _ADD, _LOOK = 0, 1, 2
A_PAGE = 500
MOST_SCANNED = 200_000
"""Keys that a search of the live counters looks at."""


class RedisCounters:
    """A `core.limits.store.SharedCounterStore`. `prefix` keeps environments apart."""

    def __init__(self, url: str, prefix: str, timeout_s: float) -> None:
        self._prefix = prefix
        self._wire = RedisWire(url, timeout_s)
        self._questions = itertools.count(1)

    async def _evaluate(self, keys: list[str], arguments: list[int]) -> list[int]:
        """Run the script. What was not answered is not asked again: the call might count twice."""
        wire = self._wire
        try:
            return await wire.ask("EVALSHA", _SCRIPT_NAME, len(keys), *keys, *arguments)  # type: ignore[no-any-return]
        except WireError as error:
            if not str(error).startswith("NOSCRIPT"):
                raise
        return await wire.ask("EVAL", SCRIPT, len(keys), *keys, *arguments)  # type: ignore[no-any-return]

    def _name(self, id: str, window: Window | Stretch, key: str) -> str:
        length = str(window.seconds) if isinstance(window, Window) else ""
        return f"{self._prefix}|{id}|{length}|{window.algorithm}|{key}"

    async def _run(self, asked: Asked, now: float, act: int, came: float = 0.0) -> Taken:
        keys: list[str] = []
        question = next(self._questions)
        arguments: list[int] = [int(now * 1_000_000), question, act, int((came or now) * 1_000_000)]
        windows: list[tuple[Limiter, Window | Stretch]] = []
        for limiter, key, cost in asked:
            of_tokens = int(not limiter.counts_calls)
            for window in limiter.windows:
                keys.append(self._name(limiter.id, window, key))
                if isinstance(window, Window):
                    of_window = (_CODES[window.algorithm], window.limit, window.seconds, window.burst, 0)
                else:
                    of_window = (_CODES["stretch"], window.limit, window.end, window.start, int(window.soft))
                arguments += (*of_window, cost, of_tokens)
                windows.append((limiter, window))
        try:
            decided = await self._evaluate(keys, arguments)
            admitted, place, left, wait_us, answered, over, of_tokens, tokens_left, tokens_us = decided
        except WireError as error:
            raise StoreAway(str(error)) from error
        if answered != question:
            self._wire.close()
            raise StoreAway("an answer came to another question; its connection is made anew")
        tokens = Taken(True, *windows[of_tokens - 1], tokens_left, tokens_us) if of_tokens else None
        soft = windows[over - 1][0] if over else None
        return Taken(bool(admitted), *windows[place - 1], left, wait_us, soft, tokens)

    async def take(self, asked: Asked, now: float) -> Taken:
        """Count a call against every limiter asked, or against none. Raises `StoreAway` within the time limit."""
        return await self._run(asked, now, _TAKE)

    async def add(self, asked: Asked, now: float, came: float = 0.0) -> None:
        """Count against every limiter asked, used up or not. Raises `StoreAway` within the time limit."""
        await self._run(asked, now, _ADD, came)

    async def look(self, asked: Asked, now: float) -> Taken:
        """What would be left, counting nothing. Raises `StoreAway` within the time limit."""
        return await self._run(asked, now, _LOOK)

    async def live(self, limiters: dict[str, Limiter], search: str, now: float, most: int) -> list[LiveCounter]:
        """What is being counted now for the limiters given, by id. Raises `StoreAway`."""
        found: list[LiveCounter] = []
        try:
            async for page in self._kept():
                asked = [
                    one
                    for id, length, algorithm, key in page
                    for one in _counted(limiters.get(id), length, algorithm, key, search)
                ]
                looked = await asyncio.gather(*(self.look([(one, key, 0)], now) for one, _, key in asked))
                fresh = [
                    LiveCounter.of(one, window, key, taken.left, taken.wait_us)
                    for (one, window, key), taken in zip(asked, looked, strict=True)
                ]
                found = listed([*found, *fresh], most)
        except WireError as error:
            raise StoreAway(str(error)) from error
        return found

    async def _kept(self) -> AsyncIterator[list[list[str]]]:
        """What is kept under the prefix, a page at a time: id, length, algorithm and key."""
        seen, cursor = 0, b"0"
        while True:
            cursor, names = await self._wire.ask("SCAN", cursor, "MATCH", f"{self._prefix}|*", "COUNT", A_PAGE)
            yield [name.decode("utf-8", "replace").split("|", 4)[1:] for name in names]
            seen += A_PAGE
            if cursor == b"0" or seen > MOST_SCANNED:
                return

    async def clear(self, limiter: Limiter, key: str) -> None:
        """Forget what was counted for a key. Raises `StoreAway`."""
        try:
            await self._wire.ask("DEL", *(self._name(limiter.id, window, key) for window in limiter.windows))
        except WireError as error:
            raise StoreAway(str(error)) from error

    async def answers(self) -> bool:
        """Whether the store answers now."""
        try:
            return bool(await self._wire.ask("PING"))
        except WireError:
            return False

    async def close(self) -> None:
        """Close the connection."""
        self._wire.close()
        await asyncio.sleep(0)  # the socket is closed in the loop's next turn


def _counted(
    limiter: Limiter | None, length: str, algorithm: str, key: str, search: str
) -> list[tuple[Limiter, Window, str]]:
    """The windows of a limiter that a kept key counts in, where it is searched for."""
    if limiter is None or (search not in key and search not in limiter.id):
        return []
    return [
        (Limiter(limiter.id, limiter.name, (window,), unit=limiter.unit), window, key)
        for window in limiter.windows
        if isinstance(window, Window) and (str(window.seconds), window.algorithm) == (length, algorithm)
    ]
