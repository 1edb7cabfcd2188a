"""Waiting for a key set: a token may name a key that its issuer has only just begun to use.

The first call that names such a key waits, once, for the control side to fetch the set anew; the node
itself asks no outside address. Later calls with that key id are decided with what is there.
"""

import asyncio
from collections import OrderedDict
from collections.abc import Awaitable, Callable

from tamarack.core.identity.material import Material

WAIT_S = 2.0
MOST_IDS = 1_000
"""Key ids remembered as asked for; the oldest go first."""
MOST_WAITING = 64
FRESH_S = 5.0
"""A set fetched this recently is not fetched again: a key that it lacks does not exist."""

Ask = Callable[[str], Awaitable[None]]
"""Tells the control side that a key set has to be fetched."""


class KeySetWaiter:
    """Decides which calls wait for keys."""

    def __init__(self, material: Material, ask: Ask) -> None:
        self._material = material
        self._ask = ask
        self._asked: OrderedDict[tuple[str, str], asyncio.Task[bool]] = OrderedDict()
        self._waiting = 0

    async def wait_for(self, url: str, kid: str, now: float) -> bool:
        """Whether the key set was fetched anew because of this key id, so that the call is worth another look."""
        holder = self._material.key_set(url)
        task = self._asked.get((url, kid))
        if task is None:
            if holder.fetched_at > now - FRESH_S:
                return False
            task = self._asked[url, kid] = asyncio.create_task(self._fetched(url))
            while len(self._asked) > MOST_IDS:
                self._asked.popitem(last=False)
        elif task.done():
            return False
        if self._waiting >= MOST_WAITING:
            return False
        self._waiting += 1
        try:
            return await asyncio.shield(task)
        finally:
            self._waiting -= 1

    async def _fetched(self, url: str) -> bool:
        holder = self._material.key_set(url)
        fetched = asyncio.Event()
        holder.listeners.append(fetched.set)
        try:
            async with asyncio.timeout(WAIT_S):
                await self._ask(url)
                await fetched.wait()
        except (TimeoutError, OSError):
            return False
        finally:
            holder.listeners.remove(fetched.set)
        return True


async def nobody(url: str) -> None:
    """An `Ask` for where there is no control side."""
    raise OSError("nobody to ask")
